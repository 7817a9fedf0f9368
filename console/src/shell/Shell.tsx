import { Box, chakra, Flex, Grid } from '@chakra-ui/react';
import { useEffect, useState, type ReactNode } from 'react';
import { Link, useLocation } from 'wouter';

import { useDifference, useReady, useSignOut, useWindows, type Window } from '../api/hooks';
import { count, counted, took } from '../look/format';
import { Choice, Mark, Sign } from '../look/parts';
import { pages } from '../pages';
import { FirstRelease } from './FirstRelease';
import { Palette } from './Palette';

interface ShellProps {
  page: string;
  window: string;
  email: string;
  mode: 'dark' | 'light';
  toggleMode: () => void;
  children: ReactNode;
}

const lastWindow = 'eager-window';

/** The frame of every page: which window, what is live, what is draft; the pages on the left; how the service does below. */
export function Shell({ page, window: named, email, mode, toggleMode, children }: ShellProps) {
  const windows = useWindows();
  const signOut = useSignOut();
  const [palette, setPalette] = useState(false);
  useEffect(() => {
    if (named) sessionStorage.setItem(lastWindow, named);
  }, [named]);
  const kept = sessionStorage.getItem(lastWindow);
  const window = named || (windows.data?.find((w) => w.name === kept) ?? windows.data?.[0])?.name || '';
  const here = windows.data?.find((w) => w.name === window);
  useKeys(window, () => setPalette(true));
  useEffect(() => {
    const title = pages.find((p) => p.name === page)?.title ?? '';
    document.title = `${title}${named ? ` · ${here?.title ?? named}` : ''} · Eager Window`;
  }, [page, named, here?.title]);
  return (
    <Grid
      templateColumns="148px minmax(0, 1fr)"
      templateRows="44px auto minmax(0, 1fr) 26px"
      height="100%"
      overflow="hidden"
    >
      <Box as="nav" aria-label="Pages" borderRightWidth="1px" gridColumn="1" gridRow="1 / 4" overflowY="auto">
        <Flex
          align="center"
          gap="10px"
          height="44px"
          paddingX="16px"
          borderBottomWidth="1px"
          marginBottom="10px"
          fontWeight="600"
        >
          <Mark /> Eager&nbsp;Window
        </Flex>
        {pages.map((p) => (
          <PageLink
            key={p.name}
            href={`/${p.name}/${p.name === 'windows' ? '' : window}`}
            aria-current={p.name === page ? 'page' : undefined}
          >
            <chakra.span flex="1">{p.title}</chakra.span>
            {here && <Figure page={p.name} of={here} />}
          </PageLink>
        ))}
      </Box>
      <Flex as="header" align="center" gap="18px" paddingX="16px" borderBottomWidth="1px" whiteSpace="nowrap">
        {named ? (
          <>
            <WindowChoice windows={windows.data ?? []} window={window} page={page} />
            {here && <State of={here} />}
          </>
        ) : (
          <chakra.h1 fontWeight="600">All windows</chakra.h1>
        )}
        <Box flex="1" />
        <HeadButton onClick={() => setPalette(true)} aria-keyshortcuts="Control+K">
          Go to … <Kbd>Ctrl K</Kbd>
        </HeadButton>
        <HeadButton onClick={toggleMode}>{mode === 'dark' ? 'Light' : 'Dark'}</HeadButton>
        <chakra.span color="muted" title={email}>
          {email.split('@')[0]}
        </chakra.span>
        <HeadButton onClick={() => signOut.mutate()}>Sign out</HeadButton>
      </Flex>
      <Box minWidth="0">{here && named && here.live_release === 0 && <FirstRelease window={here} page={page} />}</Box>
      <Box as="main" minHeight="0" minWidth="0" bg="pane" gridColumn="2">
        {children}
      </Box>
      <StatusLine of={here} />
      {palette && <Palette window={window} windows={windows.data ?? []} onClose={() => setPalette(false)} />}
    </Grid>
  );
}

/** What a page has to tell before it is gone to. */
function Figure({ page, of: w }: { page: string; of: Window }) {
  const figure = { fontSize: '12px', color: 'muted' };
  if (page === 'checks' && w.checks)
    return w.checks.failed > 0 ? (
      <chakra.span {...figure} color="brick">
        {w.checks.failed} failed
      </chakra.span>
    ) : (
      <chakra.span {...figure} color="glass" title="passed">
        {count(w.checks.passed)}
      </chakra.span>
    );
  if (page === 'release' && w.changed)
    return (
      <chakra.span {...figure} color="amber">
        <Sign of="draft" />
      </chakra.span>
    );
  if (page === 'traffic' && w.minutes) return <chakra.span {...figure}>{count(w.minutes.at(-2) ?? 0)}/min</chakra.span>;
  return null;
}

const PageLink = chakra(Link, {
  base: {
    display: 'flex',
    alignItems: 'baseline',
    borderLeftWidth: '3px',
    borderLeftColor: 'transparent',
    color: 'muted',
    paddingX: '13px',
    paddingY: '6px',
    _hover: { color: 'chalk' },
    _currentPage: { borderLeftColor: 'lit', bg: 'raised', color: 'chalk', fontWeight: 600 },
    '&:focus-visible': { outlineOffset: '-2px' },
  },
});

function WindowChoice({ windows, window, page }: { windows: Window[]; window: string; page: string }) {
  const [, go] = useLocation();
  return (
    <chakra.h1>
      <Choice
        aria-label="Window"
        bg="ground"
        borderColor="transparent"
        fontWeight="600"
        height="30px"
        maxWidth="280px"
        value={window}
        onChange={(e) => go(`/${page}/${e.target.value}`)}
      >
        {windows.every((w) => w.name !== window) && <option value={window}>{window}</option>}
        {windows.map((w) => (
          <option key={w.name} value={w.name}>
            {w.title}
          </option>
        ))}
      </Choice>
    </chakra.h1>
  );
}

function State({ of: w }: { of: Window }) {
  const difference = useDifference(w.name, '', '', w.changed && w.live_release > 0);
  const changes = difference.data?.changes.length;
  return (
    <>
      <Flex align="center" gap="8px" color="muted">
        <Sign of={w.live_release > 0 ? 'live' : 'none'} />
        {w.live_release > 0 ? `live, release ${String(w.live_release)}` : 'not published'}
      </Flex>
      {w.changed && (
        <Flex align="center" gap="8px" color="muted">
          <Sign of="draft" /> draft
          {w.live_release > 0 && (changes ? `, ${counted(changes, 'change')}` : ', unpublished changes')}
        </Flex>
      )}
    </>
  );
}

/** Whether the databases answer, and whether one has changed under the live release. */
function StatusLine({ of: w }: { of: Window | undefined }) {
  const ready = useReady();
  return (
    <Flex
      as="footer"
      gridColumn="1 / 3"
      align="center"
      gap="22px"
      paddingX="16px"
      borderTopWidth="1px"
      color="muted"
      fontSize="12.5px"
      whiteSpace="nowrap"
      overflow="hidden"
    >
      <Flex align="center" gap="8px" role="status">
        <Sign of={ready.isError || ready.data === null ? 'wrong' : ready.data === undefined ? 'none' : 'live'} />
        {ready.isError
          ? 'the service does not answer'
          : ready.data === null
            ? 'a database does not answer'
            : ready.data === undefined
              ? 'asking the databases …'
              : `database answers in ${took(ready.data)}`}
      </Flex>
      {w && w.live_release > 0 && <Drift of={w} />}
    </Flex>
  );
}

function Drift({ of: w }: { of: Window }) {
  if (w.wrong !== undefined && w.wrong !== '')
    return (
      <Flex align="center" gap="8px" color="brick" minWidth="0">
        <Sign of="wrong" />
        <chakra.span overflow="hidden" textOverflow="ellipsis">
          the live release does not fit the database: {w.wrong.split('\n')[0]}
        </chakra.span>
      </Flex>
    );
  if (!w.drift) return <span>no drift since release {w.live_release}</span>;
  const n = w.drift.breaking + w.drift.compatible + w.drift.internal;
  return (
    <Flex align="center" gap="8px" color={w.drift.breaking > 0 ? 'brick' : 'amber'}>
      <Sign of={w.drift.breaking > 0 ? 'wrong' : 'draft'} />
      {counted(n, 'change')} of the database since release {w.live_release}
      {w.drift.breaking > 0 && `, ${count(w.drift.breaking)} breaking`}
    </Flex>
  );
}

const HeadButton = chakra('button', { base: { color: 'muted', cursor: 'pointer', _hover: { color: 'chalk' } } });

const Kbd = chakra('kbd', {
  base: { fontFamily: 'mono', fontSize: '12px', borderWidth: '1px', borderRadius: '2px', padding: '1px 6px' },
});

/** Ctrl K opens the palette; g and a letter goes to a page. */
function useKeys(window: string, onPalette: () => void) {
  const [, go] = useLocation();
  useEffect(() => {
    let since = 0;
    const pressed = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'k') {
        e.preventDefault();
        onPalette();
        return;
      }
      const at = e.target instanceof HTMLElement ? e.target : null;
      if (
        at?.closest('input:not([type=checkbox]), textarea, select, [contenteditable=true]') ||
        e.ctrlKey ||
        e.altKey ||
        e.metaKey
      )
        return;
      if (e.key === 'g') since = e.timeStamp;
      else if (e.timeStamp - since < 1500) {
        since = 0;
        const page = pages.find((p) => p.key === e.key);
        if (page) go(`/${page.name}/${page.name === 'windows' ? '' : window}`);
      }
    };
    addEventListener('keydown', pressed);
    return () => removeEventListener('keydown', pressed);
  });
}
