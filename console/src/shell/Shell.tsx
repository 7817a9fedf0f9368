import { Box, chakra, Flex, Grid } from '@chakra-ui/react';
import type { ReactNode } from 'react';
import { Link, useLocation } from 'wouter';

import { useSignOut, useWindows, type Window } from '../api/service';
import { Mark, Sign } from '../look/parts';

interface ShellProps {
  page: string;
  window: string;
  email: string;
  mode: 'dark' | 'light';
  toggleMode: () => void;
  children: ReactNode;
}

/** The frame of every page: which window, what is live, what is draft; the pages on the left. */
export function Shell({ page, window, email, mode, toggleMode, children }: ShellProps) {
  const windows = useWindows();
  const signOut = useSignOut();
  const here = windows.data?.find((w) => w.name === window);
  return (
    <Grid templateColumns="148px minmax(0, 1fr)" templateRows="44px minmax(0, 1fr)" height="100%">
      <Flex align="center" gap="10px" paddingX="16px" borderRightWidth="1px" borderBottomWidth="1px" fontWeight="600">
        <Mark /> Eager&nbsp;Window
      </Flex>
      <Flex as="header" align="center" gap="22px" paddingX="16px" borderBottomWidth="1px">
        <WindowChoice windows={windows.data ?? []} window={window} page={page} />
        {here && <State of={here} />}
        <Box flex="1" />
        <HeadButton onClick={toggleMode}>{mode === 'dark' ? 'Light' : 'Dark'}</HeadButton>
        <chakra.span color="muted">{email.split('@')[0]}</chakra.span>
        <HeadButton onClick={() => signOut.mutate()}>Sign out</HeadButton>
      </Flex>
      <Box as="nav" aria-label="Pages" borderRightWidth="1px" paddingTop="10px">
        {Object.entries(titles).map(([name, title]) => (
          <PageLink key={name} href={`/${name}/${window}`} aria-current={name === page ? 'page' : undefined}>
            {title}
          </PageLink>
        ))}
      </Box>
      <Box as="main" minHeight="0" minWidth="0" bg="pane">
        {children}
      </Box>
    </Grid>
  );
}

/** The pages, in the order of the work. */
const titles = { lights: 'Lights', ask: 'Ask', callers: 'Callers' };

const PageLink = chakra(Link, {
  base: {
    display: 'block',
    borderLeftWidth: '3px',
    borderLeftColor: 'transparent',
    color: 'muted',
    paddingX: '13px',
    paddingY: '6px',
    _hover: { color: 'chalk' },
    _currentPage: { borderLeftColor: 'lit', bg: 'raised', color: 'chalk', fontWeight: 600 },
  },
});

function WindowChoice({ windows, window, page }: { windows: Window[]; window: string; page: string }) {
  const [, go] = useLocation();
  return (
    <chakra.select
      aria-label="Window"
      bg="ground"
      color="chalk"
      fontWeight="600"
      height="30px"
      maxWidth="320px"
      value={window}
      onChange={(e) => go(`/${page}/${e.target.value}`)}
    >
      {windows.map((w) => (
        <option key={w.name} value={w.name}>
          {w.title}
        </option>
      ))}
    </chakra.select>
  );
}

function State({ of: w }: { of: Window }) {
  return (
    <>
      <Flex align="center" gap="8px" color="muted">
        <Sign of={w.live_release > 0 ? 'live' : 'none'} />
        {w.live_release > 0 ? `live, release ${String(w.live_release)}` : 'not published'}
      </Flex>
      {w.changed && (
        <Flex align="center" gap="8px" color="muted">
          <Sign of="draft" /> draft, unpublished changes
        </Flex>
      )}
    </>
  );
}

const HeadButton = chakra('button', { base: { color: 'muted', cursor: 'pointer', _hover: { color: 'chalk' } } });
