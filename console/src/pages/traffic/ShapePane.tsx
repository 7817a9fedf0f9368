import { Box, Flex } from '@chakra-ui/react';

import { useShape } from '../../api/hooks';
import { lines, type Explanation } from '../ask/plan';
import { PlanLines } from '../ask/PlanPane';
import { Code, CopyButton, Mono, Pane, Section, TextButton, Waiting } from '../../look/parts';

/** A shape of requests: the index that would help, and its statement. */
export function ShapePane({ window, shape, onClose }: { window: string; shape: string; onClose: () => void }) {
  const view = useShape(window, shape);
  return (
    <Pane part="shape" title={<Mono>{shape}</Mono>} aside={<TextButton onClick={onClose}>close</TextButton>}>
      {!view.data && <Waiting what="its statement" error={view.error} />}
      {view.data?.advice.map((a) => (
        <Section key={a.message}>
          <Box>
            <Box as="span" color="amber" aria-hidden="true">
              ◆{' '}
            </Box>
            {a.message}
          </Box>
          {a.do && <Box color="muted">{a.do}</Box>}
          {a.sql && (
            <Flex gap="12px" align="flex-start" marginTop="8px">
              <Code flex="1">{a.sql}</Code>
              <CopyButton text={a.sql} />
            </Flex>
          )}
        </Section>
      ))}
      {view.data && (
        <Section border="none">
          {view.data.advice.length === 0 && view.data.sql && <Box color="muted">No index would help it much.</Box>}
          {view.data.plan && (
            <Box marginY="8px">
              <PlanLines head="as planned" share="share of cost" lines={lines(view.data.plan as Explanation['plan'])} />
            </Box>
          )}
          {view.data.sql ? (
            <Code marginTop="6px">{view.data.sql}</Code>
          ) : (
            <Box color="muted">
              The release that is live has not answered it since it began, so its statement is not known here.
            </Box>
          )}
        </Section>
      )}
    </Pane>
  );
}
