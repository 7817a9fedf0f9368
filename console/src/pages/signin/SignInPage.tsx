import { Flex, Text } from '@chakra-ui/react';
import { useState } from 'react';

import { useSignIn } from '../../api/hooks';
import { Entry, Field, Form, MainButton, Mark, Problem } from '../../look/parts';

/** Signs an operator in. Where a session has ended, it is shown over the page, which is as it was left. */
export function SignInPage({ again }: { again: boolean }) {
  const signIn = useSignIn();
  const [email, setEmail] = useState('');
  const [password, setPassword] = useState('');
  return (
    <Flex position={again ? 'fixed' : undefined} inset="0" zIndex="30" height="100%" as="main">
      <Flex flex="1" align="center" justify="center" borderRightWidth="1px" bg={again ? undefined : 'pane'}>
        {!again && <Mark size="260px" />}
      </Flex>
      <Flex direction="column" justify="center" width="460px" padding="48px" gap="18px" bg="ground">
        <Flex as="h1" align="center" gap="10px" fontSize="19px" fontWeight="600">
          <Mark /> Eager Window
        </Flex>
        <Text color="muted">
          {again
            ? 'Your session has ended. Sign in to go on where you were; nothing that you typed is lost.'
            : 'For operators: they open windows over databases and publish them.'}
        </Text>
        <Form
          gap="14px"
          onSubmit={() => {
            signIn.mutate({ email, password });
          }}
        >
          <Field name="Email address">
            <Entry
              name="email"
              type="email"
              autoComplete="username"
              autoFocus
              required
              value={email}
              onChange={(e) => setEmail(e.target.value)}
            />
          </Field>
          <Field name="Password">
            <Entry
              name="password"
              type="password"
              autoComplete="current-password"
              required
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
          </Field>
          {signIn.isError && <Problem>{signIn.error.message}</Problem>}
          <MainButton type="submit" disabled={signIn.isPending} alignSelf="flex-start">
            Sign in
          </MainButton>
        </Form>
      </Flex>
    </Flex>
  );
}
