import { Box, Flex } from '@chakra-ui/react';
import { useState } from 'react';

import { useCallerWork } from '../../api/hooks';
import { Mono, PaneHead, Problem, QuietButton } from '../../look/parts';

/** Where tokens come from, and the keys that sign them. */
export function KeysPane({ window }: { window: string }) {
  const { rotate } = useCallerWork(window);
  const [asking, setAsking] = useState(false);
  return (
    <>
      <PaneHead>Tokens</PaneHead>
      <Box padding="16px">
        <Box>Choose a caller to change what it may do.</Box>
        <Box color="muted" marginTop="10px">
          Programs ask at <Mono>/auth/{window}/token</Mono>, people sign in at <Mono>/auth/{window}/sign-in</Mono>.
          Others check the tokens with the keys at <Mono>/auth/{window}/jwks.json</Mono>.
        </Box>
      </Box>
      <Box padding="16px" borderTopWidth="1px">
        <Box marginBottom="10px" color="muted">
          Keys are made anew every 30 days. If one may have been seen, make a new one and refuse the tokens of the
          others: all programs and people of all windows must then ask for new ones.
        </Box>
        {rotate.error && <Problem>{rotate.error.message}</Problem>}
        {rotate.isSuccess && <Box color="glass">A new key signs tokens; those of the others are refused.</Box>}
        {asking ? (
          <Flex gap="10px">
            <QuietButton
              type="button"
              color="brick"
              onClick={() => rotate.mutate(true, { onSettled: () => setAsking(false) })}
            >
              Refuse all tokens that are out
            </QuietButton>
            <QuietButton type="button" onClick={() => setAsking(false)}>
              Keep them
            </QuietButton>
          </Flex>
        ) : (
          <QuietButton type="button" onClick={() => setAsking(true)}>
            New key …
          </QuietButton>
        )}
      </Box>
    </>
  );
}
