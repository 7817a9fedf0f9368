import { Box, chakra, Flex } from '@chakra-ui/react';
import { useEffect } from 'react';

import { useAsked } from '../../api/hooks';
import { took } from '../../look/format';
import { Empty, Mono, Waiting, When } from '../../look/parts';
import { speakerOf } from './speaker';
import type { Request } from './useAnswer';
import { methodOf } from './writing';

interface HistoryPaneProps {
  window: string;
  asked: number;
  onOpen: (request: Partial<Request>) => void;
}

/** What you have asked of the draft, the last first. A write that is opened again is not sent by that. */
export function HistoryPane({ window, asked, onOpen }: HistoryPaneProps) {
  const history = useAsked(window);
  const { refetch } = history;
  useEffect(() => void refetch(), [asked, refetch]);
  if (!history.data) return <Waiting what="the history" error={history.error} />;
  if (history.data.length === 0) return <Empty>You have asked for nothing yet.</Empty>;
  return (
    <Box height="100%" overflow="auto" fontSize="13px" data-part="history">
      {history.data.map((a) => {
        const { role, claims } = speakerOf(a.act_as ?? '');
        const path = `/${decoded(a.path)}`;
        return (
          <chakra.button
            key={a.id}
            type="button"
            display="block"
            width="100%"
            textAlign="left"
            padding="8px 16px"
            borderBottomWidth="1px"
            cursor="pointer"
            _hover={{ bg: 'raised' }}
            onClick={() =>
              onOpen({
                method: methodOf(a.method),
                address: path,
                body: a.body ?? '',
                speaker: { roles: role.split(',').filter(Boolean), claims },
              })
            }
          >
            <Mono color="code">
              {a.method} {path}
            </Mono>
            <Flex gap="12px" color="muted">
              <chakra.span color={a.status < 400 ? 'glass' : 'brick'}>{a.status}</chakra.span>
              <chakra.span flex="1">{role || 'operator'}</chakra.span>
              <span>{took(a.took_ms)}</span>
              <When at={a.at} />
            </Flex>
          </chakra.button>
        );
      })}
    </Box>
  );
}

function decoded(path: string): string {
  try {
    return decodeURIComponent(path);
  } catch {
    return path;
  }
}
