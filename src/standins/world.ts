/** The people and data of the demo scenario, Saltmarsh Ferries: all made up. */
export interface Account {
  sub: string;
  name: string;
  email: string;
  is: string;
  /** The organization to which the account belongs. */
  organization: string;
}

export const ACCOUNTS: readonly Account[] = [
  { sub: 'eg-1042', name: 'Marit Holm', email: 'marit.holm@saltmarsh.example', is: 'timetable office', organization: 'Saltmarsh Ferries' },
  { sub: 'eg-1077', name: 'Joss Tarrant', email: 'joss.tarrant@saltmarsh.example', is: 'harbour desk', organization: 'Saltmarsh Ferries' },
  { sub: 'eg-2001', name: 'Deck Office', email: 'deck.office@saltmarsh.example', is: 'shared account', organization: 'Saltmarsh Ferries' },
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
  Array.from({ length: 1312 }, (_none, at) => ({
    id: `${region}-bk-${String(at + 1).padStart(4, '0')}`,
    region,
    berth: `${region}-${(at % 3) + 1}`,
    boat: BOATS[at % BOATS.length],
    day: 1 + Math.floor(at / 6),
    from: `${String(6 + (at % 6) * 2).padStart(2, '0')}:00`,
    hours: 1 + (at % 2),
    skipper: { name: `${['Ane Quill', 'Tom Reed', 'Isla Marsh', 'Per Holm'][at % 4]}`, phone: `+00 555 01${String(at % 90).padStart(2, '0')}` },
  })),
);

/** Bookings of the last 120 days, more on some days: the harbour's own list gives no more than 1,000 of them at a time. */
export const pastBookings = (region: string, now: number): Record<string, unknown>[] =>
  Array.from({ length: 2_870 }, (_none, at) => ({
    id: `${region}-past-${String(at + 1).padStart(5, '0')}`,
    day: new Date(now - ((at * at) % 120) * 86_400_000).toISOString().slice(0, 10),
    boat: BOATS[at % BOATS.length],
    hours: 1 + (at % 2),
  }));

export const LEDGER = {
  accounts: [
    { id: '1000', name: 'Cash on board', balance: '1842.50' },
    { id: '4000', name: 'Fares', balance: '90412.00' },
    { id: '6100', name: 'Fuel', balance: '31877.25' },
  ],
  postings: Array.from({ length: 130 }, (_none, at) => ({
    id: `p-${at + 1}`,
    day: 1 + Math.floor(at / 5),
    account: ['1000', '4000', '6100'][at % 3],
    amount: `${40 + ((at * 13) % 90)}.00`,
    text: `${BOATS[at % BOATS.length]}, run ${1 + (at % 5)}`,
  })),
};
export const PARCELS = Array.from({ length: 230 }, (_none, at) => ({
  id: `wp-${String(at + 1).padStart(5, '0')}`,
  boat: BOATS[at % BOATS.length],
  grams: 200 + ((at * 37) % 4800),
  to: ROUTES[at % ROUTES.length]?.[1],
}));
export const THREADS = [
  { id: 't-1', title: 'Is the 7:15 running on Sunday?', answers: 4 },
  { id: 't-2', title: 'Lost a blue umbrella on the Curlew', answers: 2 },
  { id: 't-3', title: 'Bicycles on the Sandpiper', answers: 9 },
  ...Array.from({ length: 67 }, (_none, at) => ({ id: `t-${at + 4}`, title: `Timetable question ${at + 4}`, answers: (at * 5) % 11 })),
];
const FIRST = ['Marit', 'Joss', 'Ane', 'Tom', 'Ruth', 'Per', 'Isla', 'Bram', 'Nell', 'Odd'];
export const PEOPLE = Array.from({ length: 48 }, (_none, at) => ({
  id: `sf-${100 + at}`,
  name: `${FIRST[at % FIRST.length]} ${['Holm', 'Tarrant', 'Quill', 'Marsh', 'Reed'][at % 5]}`,
  works: ['deck', 'engine', 'office'][at % 3],
}));

export const ROSTERS = BOATS.flatMap((boat, b) =>
  Array.from({ length: 7 }, (_none, at) => ({
    id: `r-${b + 1}-${at + 1}`,
    boat,
    day: 1 + at,
    crew: PEOPLE.slice((b * 7 + at) % 40, ((b * 7 + at) % 40) + 3).map((person) => person.id),
  })),
);
/** The lasting id of each account in the registry of crew certificates, and what it holds. */
export const CREW_IDS: Record<string, string> = { 'eg-1042': 'C7731K42', 'eg-1077': 'C7731K77', 'eg-2001': 'C7731L01' };
export const CERTIFICATES = [
  { id: 'c-1', title: 'Basic safety', issued: '2023-04-11', until: '2028-04-11' },
  { id: 'c-2', title: 'Boatmaster, sheltered waters', issued: '2024-09-02', until: '2029-09-02' },
];
/** What the registry lists beside: each certificate's yearly check. */
export const CHECKS = Array.from({ length: 36 }, (_none, at) => ({
  id: at + 1,
  certificate: `c-${(at % 2) + 1}`,
  year: 2023 + (at % 6),
  passed: at % 9 !== 4,
}));
export const ANNOUNCEMENTS = [
  { id: 'a-1', boat: 'Curlew', at: '06:55', text: 'Departure in five minutes.' },
  { id: 'a-2', boat: 'Dunlin', at: '07:10', text: 'The bar opens after the outer buoy.' },
  ...Array.from({ length: 53 }, (_none, at) => ({
    id: `a-${at + 3}`,
    boat: BOATS[at % BOATS.length],
    at: `${String(8 + Math.floor(at / 6)).padStart(2, '0')}:${String((at % 6) * 10).padStart(2, '0')}`,
    text: 'Departure in five minutes.',
  })),
];
