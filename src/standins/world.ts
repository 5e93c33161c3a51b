/** The people and data of the demo scenario, Saltmarsh Ferries: all made up. */
export interface Account {
  sub: string;
  name: string;
  email: string;
  is: string;
}

export const ACCOUNTS: readonly Account[] = [
  { sub: 'eg-1042', name: 'Marit Holm', email: 'marit.holm@saltmarsh.example', is: 'timetable office' },
  { sub: 'eg-1077', name: 'Joss Tarrant', email: 'joss.tarrant@saltmarsh.example', is: 'harbour desk' },
  { sub: 'eg-2001', name: 'Deck Office', email: 'deck.office@saltmarsh.example', is: 'shared account' },
];

/** The password of every account at every stand-in. It is no secret: it stands on the sign-in page. */
export const STANDIN_PASSWORD = 'low-tide';

const BOATS = ['Curlew', 'Dunlin', 'Sandpiper'];
const ROUTES = [
  ['Saltmarsh', 'Heron Island'],
  ['Heron Island', 'Saltmarsh'],
  ['Saltmarsh', 'Outer Bar'],
  ['Outer Bar', 'Saltmarsh'],
] as const;

export interface ApiTable {
  id: string;
  title: string;
  rows: Record<string, unknown>[];
}

const sailings = Array.from({ length: 84 }, (_none, at) => {
  const [from, to] = ROUTES[at % ROUTES.length] ?? ROUTES[0];
  const minutes = 6 * 60 + Math.floor((at % 12) * 75);
  return {
    id: `s-${String(at + 1).padStart(3, '0')}`,
    day: 1 + Math.floor(at / 12),
    departs: `${String(Math.floor(minutes / 60)).padStart(2, '0')}:${String(minutes % 60).padStart(2, '0')}`,
    boat: BOATS[at % BOATS.length],
    from,
    to,
    places: 120 - ((at * 7) % 40),
  };
});

export const TABLES: readonly ApiTable[] = [
  { id: 'sailings', title: 'Sailings this week', rows: sailings },
  { id: 'boats', title: 'Boats', rows: BOATS.map((name, at) => ({ id: `b-${at + 1}`, name, places: [120, 120, 60][at], cars: [18, 18, 0][at] })) },
  {
    id: 'tides',
    title: 'Tides at Saltmarsh',
    rows: Array.from({ length: 14 }, (_none, at) => ({
      id: `t-${at + 1}`,
      day: 1 + Math.floor(at / 2),
      high: at % 2 === 0 ? '05:40' : '18:05',
      metres: 3.1 + (at % 5) / 10,
    })),
  },
];
export const CALENDARS = [
  { id: 'crew', title: 'Crew changes' },
  { id: 'dock', title: 'Dock maintenance' },
];

const REGIONS = ['north', 'south'];
export const BERTHS = REGIONS.flatMap((region) =>
  ['Ferry quay', 'Inner quay', 'Winter berth'].map((name, at) => ({ id: `${region}-${at + 1}`, region, name, metres: [60, 45, 40][at] })),
);
export const BOOKINGS = REGIONS.flatMap((region) =>
  Array.from({ length: 460 }, (_none, at) => ({
    id: `${region}-bk-${String(at + 1).padStart(4, '0')}`,
    region,
    berth: `${region}-${(at % 3) + 1}`,
    boat: BOATS[at % BOATS.length],
    day: 1 + Math.floor(at / 6),
    from: `${String(6 + (at % 6) * 2).padStart(2, '0')}:00`,
    hours: 1 + (at % 2),
  })),
);
