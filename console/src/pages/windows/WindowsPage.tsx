import { Box, chakra } from '@chakra-ui/react';
import { Link, useLocation, useSearchParams } from 'wouter';

import { useDifference, useWindows, type Window } from '../../api/hooks';
import { count, counted } from '../../look/format';
import {
  Empty,
  Mono,
  Number as NumberCell,
  Pane,
  Panes,
  QuietButton,
  Sign,
  Table,
  Td,
  Th,
  Waiting,
  When,
} from '../../look/parts';
import { OpenPane } from './OpenPane';

/** All windows: what is live, what is draft, whether the database has changed, and how they do. */
export default function WindowsPage() {
  const windows = useWindows();
  const [search, setSearch] = useSearchParams();
  if (!windows.data) return <Waiting what="the windows" error={windows.error} again={() => void windows.refetch()} />;
  const none = windows.data.length === 0;
  return (
    <Panes
      panes={[
        {
          id: 'list',
          size: 70,
          min: 40,
          content: (
            <Pane
              part="windows"
              title="Windows"
              note={count(windows.data.length)}
              aside={
                !none && (
                  <QuietButton type="button" height="26px" onClick={() => setSearch({ open: 'new' })}>
                    Open a window
                  </QuietButton>
                )
              }
            >
              {none ? <Welcome /> : <List windows={windows.data} />}
            </Pane>
          ),
        },
        {
          id: 'open',
          size: 30,
          min: 22,
          content: <OpenPane key={search.get('open')} names={windows.data.map((w) => w.name)} />,
        },
      ]}
    />
  );
}

function Welcome() {
  return (
    <Empty>
      <chakra.p color="chalk" fontSize="16px" marginBottom="10px">
        A window turns the tables of a database into an API that others can call.
      </chakra.p>
      <chakra.ol paddingLeft="18px" lineHeight="1.9">
        <li>
          <b>Open</b> the database: paste its address on the right.
        </li>
        <li>
          <b>Choose</b> what is shown of it: tables, columns, names.
        </li>
        <li>
          <b>Say who</b> may read and change what.
        </li>
        <li>
          <b>Check</b> it: every role and every operation is tried, and nothing lasts.
        </li>
        <li>
          <b>Publish</b>: from then on callers are answered, and the description is there to hand out.
        </li>
      </chakra.ol>
      <chakra.p marginTop="10px">
        You can leave each step and come back to it. Nobody is answered before you publish.
      </chakra.p>
    </Empty>
  );
}

function List({ windows }: { windows: Window[] }) {
  const [, go] = useLocation();
  return (
    <Table>
      <thead>
        <tr>
          <Th>API</Th>
          <Th paddingX="10px">Live</Th>
          <Th paddingX="10px">Draft</Th>
          <Th paddingX="10px">Database</Th>
          <Th paddingX="10px">Checks</Th>
          <Th textAlign="right">requests a minute</Th>
        </tr>
      </thead>
      <tbody>
        {windows.map((w) => (
          <chakra.tr key={w.name} cursor="pointer" _hover={{ bg: 'raised' }} onClick={() => go(`/tables/${w.name}`)}>
            <Td>
              <Link href={`/tables/${w.name}`}>
                <b>{w.title}</b>
              </Link>
              <br />
              <Mono color="code" whiteSpace="nowrap">{`/${w.live_release > 0 ? 'api' : 'draft'}/${w.name}`}</Mono>
            </Td>
            <Td paddingX="10px" whiteSpace="nowrap">
              {w.live_release > 0 ? <Live of={w} /> : <chakra.span color="muted">never published</chakra.span>}
            </Td>
            <Td paddingX="10px" whiteSpace="nowrap">
              <Draft of={w} />
            </Td>
            <Td paddingX="10px" whiteSpace="nowrap">
              <Database of={w} />
            </Td>
            <Td paddingX="10px" whiteSpace="nowrap">
              <Checks of={w} />
            </Td>
            <NumberCell>
              <Minutes of={w} />
            </NumberCell>
          </chakra.tr>
        ))}
      </tbody>
    </Table>
  );
}

function Live({ of: w }: { of: Window }) {
  return (
    <>
      <Sign of="live" /> release {w.live_release}
      <Box color="muted">{w.published && <When at={w.published} />}</Box>
    </>
  );
}

function Draft({ of: w }: { of: Window }) {
  const difference = useDifference(w.name, '', '', w.changed && w.live_release > 0);
  if (w.live_release === 0)
    return (
      <>
        <Sign of="draft" /> first draft
      </>
    );
  if (!w.changed) return <chakra.span color="muted">as live</chakra.span>;
  const changes = difference.data?.changes ?? [];
  const breaking = changes.filter((c) => c.effect === 'breaking').length;
  return (
    <>
      <Sign of="draft" />{' '}
      {difference.data ? counted(changes.length, 'change') : difference.error ? 'does not fit' : '…'}
      <Box color={breaking > 0 ? 'brick' : 'muted'}>
        {breaking > 0
          ? `${count(breaking)} ${breaking === 1 ? 'breaks' : 'break'} callers`
          : `by ${w.draft_by.split('@')[0] ?? ''}`}
      </Box>
    </>
  );
}

function Database({ of: w }: { of: Window }) {
  const tables = w.tables ? <Box color="muted">{counted(w.tables, 'table')}</Box> : null;
  if (w.wrong)
    return (
      <Box color="brick">
        <Sign of="wrong" /> does not fit any more
        {tables}
      </Box>
    );
  if (!w.drift)
    return (
      <>
        <chakra.span color="muted">{w.live_release > 0 ? 'no drift' : ''}</chakra.span>
        {tables}
      </>
    );
  return (
    <Box color={w.drift.breaking > 0 ? 'brick' : 'amber'}>
      <Sign of={w.drift.breaking > 0 ? 'wrong' : 'draft'} />{' '}
      {counted(w.drift.breaking + w.drift.compatible + w.drift.internal, 'change')}
      {w.drift.breaking > 0 && `, ${count(w.drift.breaking)} breaking`}
      {tables}
    </Box>
  );
}

function Checks({ of: { checks } }: { of: Window }) {
  if (!checks) return <chakra.span color="muted">none yet</chakra.span>;
  return (
    <>
      <chakra.span color={checks.failed > 0 ? 'brick' : 'glass'}>
        {checks.failed > 0
          ? `${count(checks.failed)} of ${count(checks.failed + checks.passed)} failed`
          : `${count(checks.passed)} passed`}
      </chakra.span>
      <Box color="muted">
        <When at={checks.at} />
      </Box>
    </>
  );
}

/** The last half hour as a line, and the last whole minute as a number. */
function Minutes({ of: { minutes } }: { of: Window }) {
  if (!minutes) return <chakra.span color="muted">–</chakra.span>;
  const most = Math.max(1, ...minutes);
  const whole = minutes.slice(0, -1); // the current one has only begun
  const points = whole.map((n, i) => `${String((i / (whole.length - 1)) * 92)},${String(19 - (n / most) * 18)}`);
  return (
    <>
      <chakra.svg
        viewBox="0 0 92 20"
        width="92px"
        height="20px"
        display="inline-block"
        verticalAlign="middle"
        marginRight="8px"
        role="img"
        aria-label="the last 30 minutes"
      >
        <chakra.polyline points={points.join(' ')} fill="none" stroke="glass" strokeWidth="1.5" />
      </chakra.svg>
      {count(whole.at(-1) ?? 0)}
    </>
  );
}
