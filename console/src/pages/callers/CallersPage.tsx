import { Box, chakra, Flex, Splitter } from '@chakra-ui/react';
import { useSearchParams } from 'wouter';

import {
  useCallers,
  useModel,
  type AccountEntry,
  type CallerKind,
  type ClientEntry,
  type Roster,
} from '../../api/service';
import { Edge, Mono, QuietButton, Waiting } from '../../look/parts';
import { AddPane } from './AddPane';
import { CallerPane } from './CallerPane';
import { KeysPane } from './KeysPane';

/** Who may call the API: programs, people, and those with tokens of others. Which one is open stands in the page's address. */
export function CallersPage({ window }: { window: string }) {
  const roster = useCallers(window);
  const model = useModel(window);
  const [search, setSearch] = useSearchParams();
  if (!roster.data || !model.data) return <Waiting what="the callers" error={roster.error ?? model.error} />;
  const open = (what: Record<string, string>) => setSearch(what, { replace: true });
  const client = roster.data.clients.find((c) => c.id === search.get('client'));
  const account = roster.data.accounts.find((a) => a.email === search.get('account'));
  const roles = model.data.roles.filter((r) => !r.anonymous);
  return (
    <Splitter.Root
      panels={[
        { id: 'roster', minSize: 40 },
        { id: 'caller', minSize: 24 },
      ]}
      defaultSize={[66, 34]}
      height="100%"
    >
      <Splitter.Panel id="roster">
        <Box overflow="auto" height="100%" data-part="roster">
          <People
            heading="Programs"
            kind="client"
            none="No program has a client yet."
            rows={roster.data.clients.map((c) => ({ id: c.id, entry: c, state: '' }))}
            open={client?.id}
            onOpen={(id) => open({ client: id })}
            onAdd={() => open({ add: 'client' })}
          />
          <People
            heading="People"
            kind="account"
            none="Nobody has an account yet."
            rows={roster.data.accounts.map((a) => ({ id: a.email, entry: a, state: stateOf(a) }))}
            open={account?.email}
            onOpen={(id) => open({ account: id })}
            onAdd={() => open({ add: 'account' })}
          />
          <Issuers issuers={roster.data.issuers} />
        </Box>
      </Splitter.Panel>
      <Edge between="roster:caller" />
      <Splitter.Panel id="caller">
        <Box overflow="auto" height="100%" data-part="caller">
          {client && (
            <CallerPane
              key={client.id}
              window={window}
              kind="client"
              id={client.id}
              entry={client}
              roles={roles}
              onGone={() => open({})}
            />
          )}
          {account && (
            <CallerPane
              key={account.id}
              window={window}
              kind="account"
              id={account.email}
              entry={account}
              account={account}
              roles={roles}
              onGone={() => open({})}
            />
          )}
          {!client && !account && search.has('add') && (
            <AddPane
              key={search.get('add')}
              window={window}
              kind={search.get('add') === 'account' ? 'account' : 'client'}
              roles={roles}
            />
          )}
          {!client && !account && !search.has('add') && <KeysPane window={window} />}
        </Box>
      </Splitter.Panel>
    </Splitter.Root>
  );
}

function stateOf(a: AccountEntry): string {
  if (a.disabled) return 'disabled';
  if (a.sessions === 0) return 'signed out';
  return a.sessions === 1 ? 'signed in' : `signed in, ${String(a.sessions)} times`;
}

interface PeopleProps {
  heading: string;
  kind: CallerKind;
  none: string;
  rows: { id: string; entry: ClientEntry | AccountEntry; state: string }[];
  open: string | undefined;
  onOpen: (id: string) => void;
  onAdd: () => void;
}

function People({ heading, kind, none, rows, open, onOpen, onAdd }: PeopleProps) {
  return (
    <Box borderBottomWidth="1px" paddingBottom="8px">
      <Flex align="center" padding="12px 16px 6px">
        <chakra.h2 fontWeight="600" flex="1">
          {heading}
        </chakra.h2>
        <QuietButton type="button" height="28px" onClick={onAdd}>
          Add a {kind === 'client' ? 'program' : 'person'}
        </QuietButton>
      </Flex>
      {rows.length === 0 ? (
        <Box paddingX="16px" color="muted">
          {none}
        </Box>
      ) : (
        <chakra.table width="100%" borderCollapse="collapse" fontSize="13px" tableLayout="fixed">
          <thead>
            <chakra.tr color="muted" textAlign="left">
              {[kind === 'client' ? 'Id' : 'Address', 'Roles', 'Claims', 'Last request'].map((h) => (
                <chakra.th key={h} fontWeight="500" padding="3px 16px" textAlign="left">
                  {h}
                </chakra.th>
              ))}
            </chakra.tr>
          </thead>
          <tbody>
            {rows.map(({ id, entry, state }) => (
              <chakra.tr key={id} borderTopWidth="1px" bg={id === open ? 'sel' : undefined} verticalAlign="top">
                <chakra.td padding="4px 16px">
                  <chakra.button
                    type="button"
                    fontFamily="mono"
                    cursor="pointer"
                    textAlign="left"
                    aria-pressed={id === open}
                    onClick={() => onOpen(id)}
                  >
                    {id}
                  </chakra.button>
                  {state && <Box color={state === 'disabled' ? 'brick' : 'muted'}>{state}</Box>}
                </chakra.td>
                <chakra.td padding="4px 16px">{entry.roles.join(', ')}</chakra.td>
                <chakra.td padding="4px 16px">
                  <Claims entry={entry} />
                </chakra.td>
                <chakra.td padding="4px 16px">
                  <Last entry={entry} />
                </chakra.td>
              </chakra.tr>
            ))}
          </tbody>
        </chakra.table>
      )}
    </Box>
  );
}

function Claims({ entry }: { entry: ClientEntry | AccountEntry }) {
  const claims = Object.entries(entry.claims);
  return (
    <>
      {claims.map(([name, value]) => (
        <Box
          key={name}
          maxWidth="220px"
          overflow="hidden"
          textOverflow="ellipsis"
          whiteSpace="nowrap"
          title={String(value)}
        >
          <Mono>
            {name} {String(value)}
          </Mono>
        </Box>
      ))}
      {entry.missing_claims.map((name) => (
        <Box key={name} color="amber">
          <Mono>{name}</Mono> is missing
        </Box>
      ))}
      {claims.length === 0 && entry.missing_claims.length === 0 && <chakra.span color="muted">none</chakra.span>}
    </>
  );
}

function Last({ entry }: { entry: ClientEntry | AccountEntry }) {
  if (entry.last_seen === null) return <chakra.span color="muted">never</chakra.span>;
  return (
    <>
      <Mono>{entry.last_request}</Mono>
      <Box color="muted">{ago(entry.last_seen)}</Box>
    </>
  );
}

/** How long ago a moment was, as people say it. */
export function ago(moment: string): string {
  const seconds = Math.max(0, (Date.now() - Date.parse(moment)) / 1000);
  if (seconds < 60) return 'just now';
  for (const [unit, length, most] of [
    ['minute', 60, 60],
    ['hour', 3600, 24],
    ['day', 86400, Infinity],
  ] as const) {
    const n = Math.floor(seconds / length);
    if (n < most) return `${String(n)} ${unit}${n === 1 ? '' : 's'} ago`;
  }
  return moment;
}

/** Those whose tokens are taken; the document says who. */
function Issuers({ issuers }: { issuers: Roster['issuers'] }) {
  return (
    <Box padding="12px 16px" fontSize="13px">
      <chakra.h2 fontWeight="600" fontSize="14px">
        Tokens of others
      </chakra.h2>
      {issuers.length === 0 && (
        <Box color="muted">
          None. Name issuers in the document, under <Mono>sign_in</Mono>.
        </Box>
      )}
      {issuers.map((i) => (
        <Box key={i.issuer} marginTop="4px">
          <Mono>{i.issuer}</Mono>
          <Box color="muted">
            for <Mono>{i.audience}</Mono>, the role at <Mono>{i.role}</Mono>;{' '}
            {i.jwks === '' ? (
              <chakra.span color="amber">no keys are named, so they are refused</chakra.span>
            ) : (
              <>
                keys from <Mono>{i.jwks}</Mono>
              </>
            )}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
