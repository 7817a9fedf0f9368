import { Box, chakra, Flex } from '@chakra-ui/react';
import { useState } from 'react';
import { useSearchParams } from 'wouter';

import { useDifference, useReleases, useWindows, type Change, type Difference } from '../../api/hooks';
import { count } from '../../look/format';
import { Choice, Code, Empty, Mono, Pane, PaneHead, Panes, Section, Sign, Tabs, Waiting } from '../../look/parts';
import type { PageProps } from '../../pages';
import { FirstContent } from './FirstContent';
import { History } from './History';
import { PublishPane } from './PublishPane';

const views = ['Changes', 'Text'] as const;

/** How the draft, or any version, differs from another one; publishing; the history of releases. */
export default function ReleasePage({ window }: PageProps) {
  const [search, setSearch] = useSearchParams();
  const [from, to] = [search.get('from') ?? '', search.get('to') ?? ''];
  const windows = useWindows();
  const releases = useReleases(window);
  const here = windows.data?.find((w) => w.name === window);
  // Where nothing is live, the draft with itself says at least whether it is valid.
  const first = here?.live_release === 0;
  const difference = useDifference(window, first ? 'draft' : from, first ? 'draft' : to, !!here);
  const [view, setView] = useState<(typeof views)[number]>('Changes');
  if (!here || !releases.data)
    return (
      <Waiting what="the releases" error={windows.error ?? releases.error} again={() => void releases.refetch()} />
    );
  const choose = (next: { from?: string; to?: string }) =>
    setSearch(Object.fromEntries(Object.entries({ from, to, ...next }).filter(([, v]) => v)), { replace: true });
  const versions = releases.data.map((r) => String(r.number));
  const left = (
    <Flex direction="column" height="100%" data-part="difference">
      <PaneHead
        aside={
          <Flex gap="18px" height="100%" align="center">
            {difference.data && <Counts of={difference.data.changes} />}
            {!first && <Tabs label="View" options={views} chosen={view} onChoose={setView} />}
          </Flex>
        }
        note={
          here.live_release > 0 && (
            <Flex gap="8px" align="center">
              <Version
                label="From"
                none="live"
                value={from}
                versions={versions}
                onChoose={(v) => choose({ from: v })}
              />
              to
              <Version label="To" none="the draft" value={to} versions={versions} onChoose={(v) => choose({ to: v })} />
            </Flex>
          )
        }
      >
        {here.live_release > 0 ? 'Difference' : 'First release'}
      </PaneHead>
      <Box flex="1" minHeight="0">
        {first && difference.data ? (
          <FirstContent window={window} />
        ) : difference.data ? (
          <Shown difference={difference.data} view={view} />
        ) : (
          <Waiting what="the difference" error={difference.error} again={() => void difference.refetch()} />
        )}
      </Box>
    </Flex>
  );
  return (
    <Panes
      panes={[
        { id: 'difference', size: 67, min: 40, content: left },
        {
          id: 'publish',
          size: 33,
          min: 24,
          content: (
            <Box height="100%" overflow="auto" tabIndex={-1}>
              {from === '' && to === '' && (
                <PublishPane window={here} difference={difference.data} failed={difference.error} />
              )}
              <History
                window={window}
                releases={releases.data}
                chosen={Number(search.get('release')) || undefined}
                onChoose={(n) => setSearch({ release: String(n) }, { replace: true })}
                onCompare={(a, b) => choose({ from: a, to: b })}
              />
            </Box>
          ),
        },
      ]}
    />
  );
}

interface VersionProps {
  label: string;
  none: string;
  value: string;
  versions: string[];
  onChoose: (version: string) => void;
}

function Version({ label, none, value, versions, onChoose }: VersionProps) {
  return (
    <Choice aria-label={label} height="24px" width="auto" value={value} onChange={(e) => onChoose(e.target.value)}>
      <option value="">{none}</option>
      {versions.map((v) => (
        <option key={v} value={v}>
          release {v}
        </option>
      ))}
    </Choice>
  );
}

function Counts({ of: changes }: { of: Change[] }) {
  const n = (effect: Change['effect']) => changes.filter((c) => c.effect === effect).length;
  return (
    <>
      {n('breaking') > 0 && (
        <Flex align="center" gap="6px" color="brick">
          <Sign of="wrong" /> {count(n('breaking'))} {n('breaking') === 1 ? 'breaks' : 'break'} callers
        </Flex>
      )}
      {n('compatible') > 0 && (
        <Flex align="center" gap="6px" color="glass">
          <Sign of="live" /> {count(n('compatible'))} compatible
        </Flex>
      )}
      {n('internal') > 0 && <span>{count(n('internal'))} internal</span>}
    </>
  );
}

function Shown({ difference, view }: { difference: Difference; view: (typeof views)[number] }) {
  if (view === 'Text')
    return (
      <Box
        height="100%"
        overflow="auto"
        padding="14px 16px"
        tabIndex={0}
        role="group"
        aria-label="Difference of the documents"
      >
        {difference.diff ? <DiffText text={difference.diff} /> : <Empty>The documents are the same.</Empty>}
      </Box>
    );
  if (difference.changes.length === 0)
    return (
      <Empty>
        {difference.text || difference.catalog
          ? 'The documents or the databases differ, and callers would see no difference.'
          : 'The two are the same.'}
      </Empty>
    );
  const of = (area: Change['area']) => difference.changes.filter((c) => c.area === area);
  return (
    <Panes
      panes={[
        { id: 'endpoints', size: 52, content: <Area title="Endpoints and fields" changes={of('endpoint')} /> },
        {
          id: 'permissions',
          size: 48,
          content: (
            <Flex direction="column" height="100%">
              <Box flex="3" minHeight="0">
                <Area title="Permissions" changes={of('permission')} />
              </Box>
              <Box flex="2" minHeight="0" borderTopWidth="1px">
                <Area title="Description" changes={of('description')} />
              </Box>
            </Flex>
          ),
        },
      ]}
    />
  );
}

const order = { breaking: 0, compatible: 1, internal: 2 };

function Area({ title, changes }: { title: string; changes: Change[] }) {
  const sorted = [...changes].sort((a, b) => order[a.effect] - order[b.effect]);
  return (
    <Pane title={title} note={count(changes.length)}>
      {sorted.length === 0 && <Empty>No changes.</Empty>}
      {sorted.map((c, i) => (
        <OneChange key={i} change={c} />
      ))}
    </Pane>
  );
}

function OneChange({ change: c }: { change: Change }) {
  const word = { breaking: 'breaks', compatible: c.widens ? 'opens' : '', internal: 'internal' }[c.effect];
  const color = { breaking: 'brick', compatible: c.widens ? 'amber' : 'glass', internal: 'muted' }[c.effect];
  const long = (c.from + c.to).length > 60;
  return (
    <Section data-part="change">
      <Flex gap="8px" align="baseline">
        {c.effect !== 'internal' && <Sign of={c.effect === 'breaking' ? 'wrong' : c.widens ? 'draft' : 'live'} />}
        <Box minWidth="0">
          {c.role ? (
            <>
              <b>{c.role}</b> {c.message}
            </>
          ) : (
            <Mono fontWeight="600">{c.target || 'the window'}</Mono>
          )}{' '}
          {word && <chakra.span color={color}>{word}</chakra.span>}
        </Box>
      </Flex>
      {!c.role && <Box color="muted">{c.message}</Box>}
      {(c.from || c.to) && (
        <Flex gap="6px" direction={long ? 'column' : 'row'} align="flex-start" marginTop="2px" wrap="wrap">
          {c.from && (
            <Mono bg="gone" color="chalk" padding="0 3px" as="del" textDecoration="none">
              {c.from}
            </Mono>
          )}
          {c.to && (
            <Mono bg="added" color="chalk" padding="0 3px" as="ins" textDecoration="none">
              {c.to}
            </Mono>
          )}
        </Flex>
      )}
      {(c.callers ?? []).length > 0 && (
        <Box color="muted" marginTop="2px">
          Used in the last week by{' '}
          {c.callers?.map((name, i) => (
            <span key={name}>
              {i > 0 && ', '}
              <Mono color="code">{name || 'callers without a token'}</Mono>
            </span>
          ))}
        </Box>
      )}
    </Section>
  );
}

/** A unified diff, its lines coloured and marked. */
function DiffText({ text }: { text: string }) {
  return (
    <Code>
      {text
        .split('\n')
        .slice(2)
        .map((line, i) => (
          <chakra.span
            key={i}
            display="block"
            minHeight="1.6em"
            bg={line.startsWith('+') ? 'added' : line.startsWith('-') ? 'gone' : undefined}
            color={line.startsWith('@@') ? 'muted' : 'chalk'}
          >
            {line}
          </chakra.span>
        ))}
    </Code>
  );
}
