import { Box, chakra, Flex, Grid } from '@chakra-ui/react';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { fetched } from '../../api/client';
import { described, useSettled, type Model } from '../../api/hooks';
import { MainButton, Tick } from '../../look/parts';
import { BodyEditor } from './BodyEditor';
import { encoded } from './sentence';
import { actAs, type Speaker } from './speaker';
import { bodyFields, touchOf, verbs, type Description, type Method, type Touch } from './writing';

interface WritePaneProps {
  window: string;
  model: Model;
  method: Method;
  address: string;
  speaker: Speaker;
  body: string;
  busy: boolean;
  onBody: (body: string) => void;
  onSend: (real: boolean) => void;
}

/** The body of a write, what it would touch, and the button that sends it: rehearsed, unless a tick says that it is for real. A tick
 * holds for one write. */
export function WritePane({ window, model, method, address, speaker, body, busy, onBody, onSend }: WritePaneProps) {
  const one = speaker.roles.length === 1 ? (speaker.roles[0] ?? '') : ''; // of several, all that is exposed
  const description = described<Description>(window, one);
  useQuery(description); // so that it is there when it is asked for
  const queries = useQueryClient();
  const asked = useSettled(address);
  const touch = touchOf(method, asked, body);
  const found = useTouched(window, touch, speaker);
  const ready = !busy && found.ready;
  const bodiless = method === 'DELETE';
  const [real, setReal] = useState(false);
  const send = () => {
    onSend(real);
    setReal(false);
  };
  return (
    <Grid templateRows="36px minmax(0, 1fr) auto" height="100%">
      <Flex align="center" gap="10px" paddingX="16px" borderBottomWidth="1px" color="muted" fontSize="12.5px">
        <chakra.span fontWeight="600">Body</chakra.span>
        <span>{bodiless ? 'none: the path says it all' : 'application/json'}</span>
      </Flex>
      {bodiless ? (
        <Box />
      ) : (
        <BodyEditor
          text={body}
          onChange={onBody}
          onSend={() => ready && send()}
          fieldsAt={async (within) =>
            bodyFields(await queries.ensureQueryData(description), model, method, address, within)
          }
        />
      )}
      <Flex align="center" gap="14px" borderTopWidth="1px" bg="raised" padding="10px 16px" data-part="touch">
        <MainButton
          type="button"
          disabled={!ready}
          onClick={send}
          bg={real && method === 'DELETE' ? 'brick' : undefined}
          flex="none"
        >
          {real ? found.button : `Rehearse: ${found.button.toLowerCase()}`}
        </MainButton>
        <chakra.span color={found.ready ? 'muted' : 'brick'} fontSize="13px" aria-live="polite" flex="1">
          {found.says} {found.ready && !real && 'Then it is undone.'}
        </chakra.span>
        <chakra.label display="flex" alignItems="center" gap="8px" flex="none" cursor="pointer">
          <Tick checked={real} onChange={(e) => setReal(e.target.checked)} />
          For real
        </chakra.label>
      </Flex>
    </Grid>
  );
}

interface Found {
  says: string;
  button: string;
  ready: boolean;
}

/** Reads what a write would touch, as the speaker, and says it. */
function useTouched(window: string, touch: Touch, speaker: Speaker): Found {
  const as = actAs(speaker);
  const { data, isPending } = useQuery({
    queryKey: ['touch', window, touch.many, touch.read, as],
    enabled: touch.read !== undefined,
    gcTime: 0,
    queryFn: async ({ signal }) => {
      const { response, text } = await fetched(`/draft/${window}${encoded(touch.read ?? '')}`, {
        signal,
        method: touch.many ?? 'GET',
        headers: { ...(as ? { 'Act-As': as } : {}), ...(touch.many ? { Prefer: 'explain' } : {}) },
      });
      return { status: response.status, text };
    },
  });
  if (touch.read === undefined) return { ...touch, ready: true };
  if (isPending) return { says: 'Looking what it would touch …', button: touch.button, ready: false };
  if (data?.status === 404)
    return { says: `There is no row at /${touch.says} yet.`, button: touch.button, ready: true };
  if (!data || data.status >= 400) return { says: wordsOf(data?.text), button: touch.button, ready: false };
  if (touch.many) {
    const n = (JSON.parse(data.text) as { rows: number }).rows;
    const rows = `${n.toLocaleString('en')} row${n === 1 ? '' : 's'}`;
    return {
      says: `Every row of the filter${speaker.roles.length > 0 ? ` that ${speaker.roles.join(' and ')} may ${verbs[touch.many]}` : ''}: ${rows} of ${touch.says}.`,
      button: `${touch.button} ${rows}`,
      ready: true,
    };
  }
  return { says: `One row: /${touch.says}.`, button: touch.button, ready: true };
}

function wordsOf(text: string | undefined): string {
  try {
    return (JSON.parse(text ?? '') as { error: { message: string } }).error.message;
  } catch {
    return 'The service does not answer.';
  }
}
