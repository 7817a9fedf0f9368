import { lazy, type ComponentType, type LazyExoticComponent } from 'react';

export interface PageProps {
  window: string;
}

export interface Page {
  name: string;
  title: string;
  /** What it is for, in the palette. */
  about: string;
  /** The second key after "g". */
  key: string;
  view: LazyExoticComponent<ComponentType<PageProps>>;
}

const page = (
  name: string,
  title: string,
  key: string,
  about: string,
  load: () => Promise<{ default: ComponentType<PageProps> }>,
): Page => ({ name, title, key, about, view: lazy(load) });

/** The pages, in the order of the work. Each is loaded when it is first gone to. */
export const pages: Page[] = [
  page('windows', 'Windows', 'w', 'all APIs, open another one', () => import('./pages/windows/WindowsPage')),
  page('tables', 'Tables', 't', 'what is shown of the database', () => import('./pages/tables/TablesPage')),
  page('map', 'Map', 'm', 'resources and relations', () => import('./pages/map/MapPage')),
  page('lights', 'Lights', 'l', 'who may do what', () => import('./pages/lights/LightsPage')),
  page('ask', 'Ask', 'a', 'try requests', () => import('./pages/ask/AskPage')),
  page('checks', 'Checks', 'c', 'suites and their runs', () => import('./pages/checks/ChecksPage')),
  page('description', 'Description', 'd', 'what callers read', () => import('./pages/description/DescriptionPage')),
  page('release', 'Release', 'r', 'compare and publish', () => import('./pages/release/ReleasePage')),
  page('callers', 'Callers', 'p', 'programs and people', () => import('./pages/callers/CallersPage')),
  page('traffic', 'Traffic', 'f', 'requests, times, refusals', () => import('./pages/traffic/TrafficPage')),
];
