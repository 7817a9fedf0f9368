import { Box, chakra, Flex } from '@chakra-ui/react';
import { useSearchParams } from 'wouter';

import {
  useCallers,
  useModel,
  type AccountEntry,
  type CallerKind,
  type ClientEntry,
  type Roster,
} from '../../api/hooks';
import { Mono, Panes, QuietButton, Table, Td, Th, Waiting, When } from '../../look/parts';
import type { PageProps } from '../../pages';
import { AddPane } from './AddPane';
import { CallerPane } from './CallerPane';
import { KeysPane } from './KeysPane';

/** Who may call the API: programs, people, and those with tokens of others. Which one is open is in the page's address. */
export default function CallersPage({ window }: PageProps) {
  const roster = useCallers(window);
  const model = useModel(window);
  const [search, setSearch] = useSearchParams();
  if (!roster.data || !model.data) return <Waiting what="the callers" error={roster.error ?? model.error} />;
  const open = (what: Record<string, string>) => setSearch(what, { replace: true });
  const client = roster.data.clients.find((c) => c.id === search.get('client'));
  const account = roster.data.accounts.find((a) => a.email === search.get('account'));
  const roles = model.data.roles.filter((r) => !r.anonymous);
  return (
    <Panes
      panes={[
        {
          id: 'roster',
          size: 66,
          min: 40,
          content: (
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
          ),
        },
        {
          id: 'caller',
          size: 34,
          min: 24,
          content: (
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
          ),
        },
      ]}
    />
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
        <Table tableLayout="fixed">
          <thead>
            <tr>
              {[kind === 'client' ? 'Id' : 'Email address', 'Roles', 'Claims', 'Last request'].map((h) => (
                <Th key={h}>{h}</Th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map(({ id, entry, state }) => (
              <chakra.tr key={id} bg={id === open ? 'sel' : undefined}>
                <Td>
                  <chakra.button
                    type="button"
                    fontFamily="mono"
                    cursor="pointer"
                    textAlign="left"
                    overflowWrap="anywhere"
                    aria-pressed={id === open}
                    onClick={() => onOpen(id)}
                  >
                    {id}
                  </chakra.button>
                  {state && <Box color={state === 'disabled' ? 'brick' : 'muted'}>{state}</Box>}
                </Td>
                <Td>{entry.roles.join(', ')}</Td>
                <Td>
                  <Claims entry={entry} />
                </Td>
                <Td>
                  <Last entry={entry} />
                </Td>
              </chakra.tr>
            ))}
          </tbody>
        </Table>
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
      <Mono>{entry.last_request.replace(/\/api\/[^/]+\//, '/')}</Mono>
      <Box color="muted">
        <When at={entry.last_seen} />
      </Box>
    </>
  );
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
