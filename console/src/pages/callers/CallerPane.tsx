import { Box, chakra, Flex } from '@chakra-ui/react';
import { useState } from 'react';

import { useCallerWork, type AccountEntry, type CallerKind, type ClientEntry, type Role } from '../../api/hooks';
import { Form, MainButton, Mono, PaneHead, Problem, QuietButton, When } from '../../look/parts';
import { claimsOf, RolesAndClaims, type Given } from './RolesAndClaims';

interface CallerPaneProps {
  window: string;
  kind: CallerKind;
  id: string;
  entry: ClientEntry | AccountEntry;
  account?: AccountEntry;
  roles: Role[];
  onGone: () => void;
}

/** One caller: what it may do, and how to change or end that. */
export function CallerPane({ window, kind, id, entry, account, roles, onGone }: CallerPaneProps) {
  const work = useCallerWork(window);
  const [given, setGiven] = useState<Given>({
    roles: entry.roles,
    claims: Object.fromEntries(Object.entries(entry.claims).map(([name, v]) => [name, String(v)])),
  });
  const [leaving, setLeaving] = useState(false);
  const failure = work.change.error ?? work.remove.error;
  return (
    <>
      <PaneHead aside={kind === 'client' ? 'a program' : 'a person'}>
        <Mono>{id}</Mono>
      </PaneHead>
      <Form
        gap="12px"
        padding="16px"
        onSubmit={() => {
          work.change.mutate({ kind, id, body: { roles: given.roles, claims: claimsOf(given) } });
        }}
      >
        <Box color="muted">
          Added <When at={entry.created} />.{' '}
          {entry.last_seen === null ? (
            'It has asked for nothing yet.'
          ) : (
            <>
              Last seen <When at={entry.last_seen} />.
            </>
          )}
        </Box>
        <RolesAndClaims roles={roles} given={given} onChange={setGiven} />
        {failure && <Problem>{failure.message}</Problem>}
        {work.change.isSuccess && !failure && (
          <Box color="glass" role="status">
            Changed. It holds for the tokens that are out.
          </Box>
        )}
        <MainButton type="submit" alignSelf="flex-start" disabled={work.change.isPending}>
          Change
        </MainButton>
      </Form>
      <Box padding="16px" borderTopWidth="1px">
        {account && (
          <Flex gap="10px" align="center" marginBottom="12px">
            <QuietButton
              type="button"
              disabled={work.change.isPending}
              onClick={() => work.change.mutate({ kind, id, body: { disabled: !account.disabled } })}
            >
              {account.disabled ? 'Let it sign in again' : 'Disable'}
            </QuietButton>
            <chakra.span color="muted">
              {account.disabled ? 'It may not sign in.' : 'Signs it out everywhere; it may not sign in again.'}
            </chakra.span>
          </Flex>
        )}
        {leaving ? (
          <>
            <Box marginBottom="8px">
              <Mono>{id}</Mono> will be gone, and its tokens are refused from then on. No row of the database is
              touched.
            </Box>
            <Flex gap="10px">
              <QuietButton
                type="button"
                color="brick"
                onClick={() => work.remove.mutate({ kind, id }, { onSuccess: onGone })}
              >
                Remove {id}
              </QuietButton>
              <QuietButton type="button" onClick={() => setLeaving(false)}>
                Keep it
              </QuietButton>
            </Flex>
          </>
        ) : (
          <QuietButton type="button" onClick={() => setLeaving(true)}>
            Remove …
          </QuietButton>
        )}
      </Box>
    </>
  );
}
