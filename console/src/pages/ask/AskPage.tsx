import { Box, chakra, Flex, Grid, Splitter } from '@chakra-ui/react';
import { useEffect, useState } from 'react';
import { useSearchParams } from 'wouter';

import { useModel, type Model } from '../../api/service';
import { Edge, MainButton, Problem } from '../../look/parts';
import { AnswerPane } from './AnswerPane';
import { ModelPane } from './ModelPane';
import { opening, parse, print, type Sentence, type Speaker } from './sentence';
import { SentenceView } from './SentenceView';
import { useAnswer, type Request } from './useAnswer';
import { WritePane } from './WritePane';
import { addressFor, methodOf, type Method } from './writing';

export function AskPage({ window }: { window: string }) {
  const model = useModel(window);
  if (model.isPending)
    return (
      <Box padding="20px" color="muted">
        Reading the model …
      </Box>
    );
  if (model.isError)
    return (
      <Box padding="20px">
        <Problem>{model.error.message}</Problem>
      </Box>
    );
  return <Ask window={window} model={model.data} />;
}

/** The request stands in the page's own address, so that it can be shared: who asks, and what. A shared write is not sent by
 * opening it. */
function Ask({ window, model }: { window: string; model: Model }) {
  const [search, setSearch] = useSearchParams();
  const address = search.get('q') ?? print(opening(model));
  const method = methodOf(search.get('method'));
  const body = search.get('body') ?? '';
  const speaker: Speaker = {
    role: search.get('as') ?? '',
    claims: Object.fromEntries([...search.entries()].filter(([name]) => !own.includes(name))),
  };
  const [typed, setTyped] = useState({ of: address, text: address });
  const text = typed.of === address ? typed.text : address;
  const answer = useAnswer(window);
  const keep = (next: Partial<Request>) => {
    const r = { method, address, body, speaker, ...next };
    setSearch(
      {
        q: r.address,
        ...(r.speaker.role ? { as: r.speaker.role, ...r.speaker.claims } : {}),
        ...(r.method === 'GET' ? {} : { method: r.method, body: r.body }),
      },
      { replace: true },
    );
    return r;
  };
  const { mutate, reset } = answer;
  const send = (next: Partial<Request>) => mutate(keep(next));
  /** Reads are sent as they change; a write waits for its button. */
  const change = (next: Partial<Request>) => {
    if ((next.method ?? method) === 'GET') send(next);
    else {
      keep(next);
      reset();
    }
  };
  // The page opens with its answer; later ones are asked for.
  useEffect(() => {
    if (method === 'GET') mutate({ method, address, body, speaker });
  }, []); // eslint-disable-line react-hooks/exhaustive-deps

  const sentence = parse(address);
  const writes = method !== 'GET';
  return (
    <Grid templateRows="auto auto minmax(0, 1fr)" height="100%">
      <Box padding="18px 20px" borderBottomWidth="1px">
        <SentenceView
          model={model}
          method={method}
          address={address}
          sentence={sentence}
          speaker={speaker}
          onMethod={(next) => change({ method: next, address: addressFor(next, address) })}
          onChange={(next) => change({ address: print(next) })}
          onResource={(name) =>
            change({ address: writes ? `/${name}${method === 'POST' ? '' : '/'}` : print(about(sentence, name)) })
          }
          onSpeaker={(as) => change({ speaker: as })}
        />
      </Box>
      <AddressLine
        window={window}
        method={method}
        text={text}
        busy={answer.isPending}
        onText={(next) => setTyped({ of: address, text: next })}
        onAsk={() => change({ address: text })}
      />
      <Splitter.Root
        key={writes ? 'write' : 'read'}
        panels={[
          { id: writes ? 'write' : 'answer', minSize: 25 },
          { id: writes ? 'answer' : 'model', minSize: 15 },
        ]}
        defaultSize={writes ? [46, 54] : [74, 26]}
        minHeight="0"
      >
        {writes && (
          <>
            <Splitter.Panel id="write">
              <WritePane
                window={window}
                model={model}
                method={method}
                address={text}
                speaker={speaker}
                body={body}
                busy={answer.isPending}
                onBody={(next) => keep({ body: next })}
                onSend={(real) => send({ address: text, real })}
              />
            </Splitter.Panel>
            <Edge between="write:answer" />
          </>
        )}
        <Splitter.Panel id="answer">
          {writes && answer.isIdle ? (
            <Box padding="20px" color="muted">
              Nothing is sent yet. What it would touch stands beside the button.
            </Box>
          ) : (
            <AnswerPane answer={answer.data} failure={answer.error?.message} />
          )}
        </Splitter.Panel>
        {!writes && (
          <>
            <Edge between="answer:model" />
            <Splitter.Panel id="model">
              <ModelPane
                model={model}
                sentence={sentence}
                speaker={speaker}
                onChange={(next) => change({ address: print(next) })}
              />
            </Splitter.Panel>
          </>
        )}
      </Splitter.Root>
    </Grid>
  );
}

/** The sentence about another resource: its page stays, the rest speaks of fields that are not there. */
function about(s: Sentence, resource: string): Sentence {
  return { ...s, resource, expand: [], conditions: [], filter: '', order: [], select: [] };
}

/** What of the page's address is not a claim. */
const own = ['q', 'as', 'method', 'body'];

interface AddressLineProps {
  window: string;
  method: Method;
  text: string;
  busy: boolean;
  onText: (text: string) => void;
  onAsk: () => void;
}

/** The URL of the sentence; it can be edited, and the sentence follows. */
function AddressLine({ window, method, text, busy, onText, onAsk }: AddressLineProps) {
  return (
    <chakra.form
      bg="raised"
      borderBottomWidth="1px"
      onSubmit={(e) => {
        e.preventDefault();
        onAsk();
      }}
    >
      <Flex align="center" gap="12px" padding="12px 20px" fontFamily="mono" fontSize="12.5px">
        <chakra.span color={method === 'GET' ? 'glass' : method === 'DELETE' ? 'brick' : 'amber'} fontWeight="600">
          {method}
        </chakra.span>
        <chakra.label display="flex" flex="1" minWidth="0" color="code" gap="0">
          <chakra.span color="muted" paddingY="1px">
            /draft/{window}
          </chakra.span>
          <chakra.textarea
            aria-label="Path and query"
            name="address"
            spellCheck={false}
            flex="1"
            rows={1}
            css={{ fieldSizing: 'content' }}
            bg="transparent"
            resize="none"
            value={text}
            onChange={(e) => onText(e.target.value.replaceAll('\n', ''))}
            onKeyDown={(e) => {
              if (e.key === 'Enter') {
                e.preventDefault();
                onAsk();
              }
            }}
          />
        </chakra.label>
        {method === 'GET' && (
          <MainButton type="submit" disabled={busy} fontFamily="body">
            Ask
          </MainButton>
        )}
      </Flex>
    </chakra.form>
  );
}
