import { chakra, Flex, Text } from '@chakra-ui/react';
import { useState } from 'react';

import { useSignIn } from '../../api/service';
import { Entry, MainButton, Mark, Problem } from '../../look/parts';

export function SignInPage() {
  const signIn = useSignIn();
  const [email, setEmail] = useState('');
  const [password, setPassword] = useState('');
  return (
    <Flex height="100%" bg="ground">
      <Flex flex="1" align="center" justify="center" borderRightWidth="1px" bg="pane">
        <Mark size="260px" />
      </Flex>
      <Flex direction="column" justify="center" width="460px" padding="48px" gap="18px">
        <Flex align="center" gap="10px" fontSize="19px" fontWeight="600">
          <Mark /> Eager Window
        </Flex>
        <Text color="muted">For operators: they open windows over databases and publish them.</Text>
        <chakra.form
          display="flex"
          flexDirection="column"
          gap="14px"
          onSubmit={(e) => {
            e.preventDefault();
            signIn.mutate({ email, password });
          }}
        >
          <chakra.label>
            Address
            <Entry
              name="email"
              type="email"
              autoComplete="username"
              autoFocus
              required
              value={email}
              onChange={(e) => setEmail(e.target.value)}
            />
          </chakra.label>
          <chakra.label>
            Password
            <Entry
              name="password"
              type="password"
              autoComplete="current-password"
              required
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
          </chakra.label>
          {signIn.isError && <Problem>{signIn.error.message}</Problem>}
          <MainButton type="submit" disabled={signIn.isPending} alignSelf="flex-start">
            Sign in
          </MainButton>
        </chakra.form>
      </Flex>
    </Flex>
  );
}
