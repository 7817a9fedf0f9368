import { Box, chakra } from '@chakra-ui/react';
import { useState } from 'react';

import { useCallerWork, type CallerKind, type Role } from '../../api/hooks';
import { Entry, Form, MainButton, Mono, PaneHead, Problem } from '../../look/parts';
import { RolesAndClaims, type Given } from './RolesAndClaims';

/** Adds a program or a person. The secret is made by the service and shown this once. */
export function AddPane({ window, kind, roles }: { window: string; kind: CallerKind; roles: Role[] }) {
  const { addClient, addAccount } = useCallerWork(window);
  const [id, setId] = useState('');
  const [given, setGiven] = useState<Given>({ roles: [], claims: {} });
  const failure = addClient.error ?? addAccount.error;
  const made = kind === 'client' ? addClient.data?.secret : addAccount.data?.password;
  const what = kind === 'client' ? 'program' : 'person';
  if (made !== undefined)
    return (
      <>
        <PaneHead>Added</PaneHead>
        <Box padding="16px" data-part="secret">
          <Mono>{id}</Mono> may call. {kind === 'client' ? 'Its secret' : 'The password'}, shown this once:
          <Box
            fontFamily="mono"
            bg="raised"
            padding="10px"
            marginY="10px"
            userSelect="all"
            overflowWrap="anywhere"
            data-secret
          >
            {made}
          </Box>
          <Box color="muted">
            {kind === 'client' ? 'It asks for tokens at ' : 'They sign in at '}
            <Mono>{kind === 'client' ? `/auth/${window}/token` : `/auth/${window}/sign-in`}</Mono>
            {kind === 'client' ? ' (OAuth 2 client credentials).' : ' and can change it at '}
            {kind === 'account' && <Mono>{`/auth/${window}/password`}</Mono>}
          </Box>
        </Box>
      </>
    );
  return (
    <>
      <PaneHead>Add a {what}</PaneHead>
      <Form
        gap="12px"
        padding="16px"
        onSubmit={() => {
          if (kind === 'client') addClient.mutate({ id, ...given });
          else addAccount.mutate({ email: id, ...given });
        }}
      >
        <chakra.label>
          {kind === 'client' ? 'Id' : 'Email address'}
          <Entry
            name="id"
            type={kind === 'client' ? 'text' : 'email'}
            required
            placeholder={kind === 'client' ? 'timetable' : 'ada@board.example'}
            value={id}
            onChange={(e) => setId(e.target.value)}
          />
        </chakra.label>
        <RolesAndClaims roles={roles} given={given} onChange={setGiven} />
        {failure && <Problem>{failure.message}</Problem>}
        <MainButton type="submit" alignSelf="flex-start" disabled={addClient.isPending || addAccount.isPending}>
          Add
        </MainButton>
      </Form>
    </>
  );
}
