import { Box, chakra, Flex } from '@chakra-ui/react';
import { useEffect, useRef, useState } from 'react';
import { useLocation } from 'wouter';

import { useCallers, useModel, useReleases, type Window } from '../api/hooks';
import { Entry } from '../look/parts';
import { pages } from '../pages';

interface Target {
  label: string;
  kind: string;
  keys?: string;
  to: string;
}

interface PaletteProps {
  window: string;
  windows: Window[];
  onClose: () => void;
}

/** Goes to anything by its name: pages, resources, roles, releases, callers, other windows. */
export function Palette({ window, windows, onClose }: PaletteProps) {
  const [, go] = useLocation();
  const [typed, setTyped] = useState('');
  const [at, setAt] = useState(0);
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => dialog.current?.showModal(), []);
  const found = matching(useTargets(window, windows), typed);
  const chosen = found[Math.min(at, found.length - 1)];
  const follow = (t: Target | undefined) => {
    if (!t) return;
    onClose();
    go(t.to);
  };
  return (
    <chakra.dialog
      ref={dialog}
      aria-label="Go to"
      onClose={onClose}
      onClick={(e) => {
        if (e.target === dialog.current) onClose();
      }}
      bg="raised"
      color="chalk"
      borderWidth="1px"
      borderRadius="2px"
      width="560px"
      margin="12vh auto auto"
      padding="0"
      css={{ '&::backdrop': { background: 'rgba(5, 10, 15, 0.5)' } }}
    >
      <Box padding="12px">
        <Entry
          autoFocus
          role="combobox"
          aria-label="Name of a page, a resource, a role …"
          aria-expanded="true"
          aria-controls="found"
          aria-activedescendant={chosen ? 'found chosen' : undefined}
          placeholder="A page, a resource, a role, a release …"
          value={typed}
          onChange={(e) => {
            setTyped(e.target.value);
            setAt(0);
          }}
          onKeyDown={(e) => {
            if (e.key === 'ArrowDown') setAt(Math.min(at + 1, found.length - 1));
            else if (e.key === 'ArrowUp') setAt(Math.max(at - 1, 0));
            else if (e.key === 'Enter') follow(chosen);
            else return;
            e.preventDefault();
          }}
        />
      </Box>
      <chakra.ul
        id="found"
        role="listbox"
        aria-label="Found"
        listStyleType="none"
        maxHeight="50vh"
        overflowY="auto"
        padding="0 0 8px"
        margin="0"
      >
        {found.map((t) => (
          <Flex
            as="li"
            role="option"
            id={t === chosen ? 'found chosen' : undefined}
            aria-selected={t === chosen}
            ref={t === chosen ? (e: HTMLElement | null) => e?.scrollIntoView({ block: 'nearest' }) : undefined}
            key={`${t.kind} ${t.label}`}
            align="baseline"
            gap="12px"
            padding="5px 22px"
            cursor="pointer"
            bg={t === chosen ? 'sel' : undefined}
            onClick={() => follow(t)}
          >
            <chakra.span flex="1">{t.label}</chakra.span>
            <chakra.span color="muted" fontSize="12.5px">
              {t.kind}
            </chakra.span>
            {t.keys && (
              <chakra.kbd fontFamily="mono" fontSize="12px" borderWidth="1px" padding="0 6px" borderRadius="2px">
                {t.keys}
              </chakra.kbd>
            )}
          </Flex>
        ))}
        {found.length === 0 && (
          <chakra.li padding="5px 22px" color="muted">
            Nothing is named so.
          </chakra.li>
        )}
      </chakra.ul>
    </chakra.dialog>
  );
}

function useTargets(window: string, windows: Window[]): Target[] {
  const model = useModel(window);
  const releases = useReleases(window);
  const callers = useCallers(window);
  const list: Target[] = pages.map((p) => ({
    label: p.title,
    kind: p.about,
    keys: `g ${p.key}`,
    to: `/${p.name}/${p.name === 'windows' ? '' : window}`,
  }));
  for (const r of model.data?.resources ?? []) {
    list.push({
      label: `Ask ${r.name}`,
      kind: 'resource',
      to: `/ask/${window}?q=${encodeURIComponent(`/${r.name}?top=20&count=true`)}`,
    });
    if (r.table)
      list.push({
        label: `Table ${r.table}`,
        kind: 'table',
        to: `/tables/${window}?table=${encodeURIComponent(r.table)}`,
      });
  }
  for (const r of model.data?.roles ?? [])
    list.push({
      label: `Lights of ${r.name}`,
      kind: 'role',
      to: `/lights/${window}?role=${encodeURIComponent(r.name)}`,
    });
  for (const r of releases.data ?? [])
    list.push({
      label: `Release ${String(r.number)}`,
      kind: r.note || 'release',
      to: `/release/${window}?release=${String(r.number)}`,
    });
  for (const c of callers.data?.clients ?? [])
    list.push({
      label: `Caller ${c.id}`,
      kind: 'program',
      to: `/callers/${window}?client=${encodeURIComponent(c.id)}`,
    });
  for (const a of callers.data?.accounts ?? [])
    list.push({
      label: `Caller ${a.email}`,
      kind: 'person',
      to: `/callers/${window}?account=${encodeURIComponent(a.email)}`,
    });
  for (const w of windows) list.push({ label: w.title, kind: `window ${w.name}`, to: `/tables/${w.name}` });
  return list;
}

/** How many are shown. */
const most = 60;

/** Those that have every word that was typed, the ones that begin so first. */
function matching(targets: Target[], typed: string): Target[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const text = (t: Target) => `${t.label} ${t.kind}`.toLowerCase();
  const begins = (t: Target) => Number(!t.label.toLowerCase().startsWith(words[0] ?? ''));
  return targets
    .filter((t) => words.every((w) => text(t).includes(w)))
    .sort((a, b) => begins(a) - begins(b))
    .slice(0, most);
}
