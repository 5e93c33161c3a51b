import Activity from '@lucide/svelte/icons/activity';
import Cable from '@lucide/svelte/icons/cable';
import CalendarClock from '@lucide/svelte/icons/calendar-clock';
import CircleGauge from '@lucide/svelte/icons/circle-gauge';
import CircleHelp from '@lucide/svelte/icons/circle-question-mark';
import Hourglass from '@lucide/svelte/icons/hourglass';
import Landmark from '@lucide/svelte/icons/landmark';
import SettingsIcon from '@lucide/svelte/icons/settings';
import Workflow from '@lucide/svelte/icons/workflow';

/** The pages of the menu, in the order of a practitioner's questions; `key` goes there after `g`. */
export const PLACES = [
  { path: '/', name: 'Overview', icon: CircleGauge, key: 'o' },
  { path: '/connections', name: 'Connections', icon: Cable, key: 'c' },
  { path: '/providers', name: 'Providers', icon: Landmark, key: 'p' },
  { path: '/callers', name: 'Callers', icon: Workflow, key: 'l' },
  { path: '/jobs', name: 'Jobs', icon: CalendarClock, key: 'j' },
  { path: '/upcoming', name: 'Upcoming', icon: Hourglass, key: 'u' },
  { path: '/activity', name: 'Activity', icon: Activity, key: 'a' },
  { path: '/settings', name: 'Settings', icon: SettingsIcon, key: 's' },
  { path: '/help', name: 'Help', icon: CircleHelp, key: 'h' },
] as const;
