import { Box, Flex } from '@chakra-ui/react';
import { useState } from 'react';

import type { Schemas } from '../../api/client';
import { useSnippets } from '../../api/hooks';
import { Chip, Code, CopyButton, Problem, Tabs } from '../../look/parts';

interface CopyAsProps {
  window: string;
  request: Schemas['ToWrite'];
}

/** The request as it is written in a shell or a language, to be copied. */
export function CopyAs({ window, request }: CopyAsProps) {
  return (
    <Chip label="Copy as" quiet choices={() => <Snippets window={window} request={request} />}>
      <Box borderWidth="1px" borderRadius="2px" height="34px" lineHeight="32px" paddingX="12px">
        Copy as …
      </Box>
    </Chip>
  );
}

export function Snippets({ window, request }: CopyAsProps) {
  const snippets = useSnippets(window, request);
  const [chosen, setChosen] = useState('curl');
  if (snippets.error) return <Problem>{snippets.error.message}</Problem>;
  const list = snippets.data ?? [];
  const text = list.find((s) => s.language === chosen)?.text ?? '';
  return (
    <Flex direction="column" gap="10px">
      <Box height="28px">
        <Tabs label="Language" options={list.map((s) => s.language)} chosen={chosen} onChoose={setChosen} />
      </Box>
      <Code maxHeight="40vh" overflowY="auto">
        {text}
      </Code>
      <Flex gap="10px" align="center">
        <CopyButton text={text} />
        <Box color="muted" fontSize="12.5px">
          $TOKEN is a token of yours or of the caller.
        </Box>
      </Flex>
    </Flex>
  );
}
