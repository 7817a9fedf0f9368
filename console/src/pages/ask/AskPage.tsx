import { Box, chakra, Flex, Grid } from '@chakra-ui/react';
import { lazy, Suspense, useEffect, useState } from 'react';
import { useSearchParams } from 'wouter';

import { useModel, type Model } from '../../api/hooks';
import { claimParams, claimsIn } from '../../claims';
import { MainButton, Panes, Tabs, Waiting } from '../../look/parts';
import type { PageProps } from '../../pages';
import { AnswerPane } from './AnswerPane';
import { CopyAs } from './CopyAs';
import { KeepAsCheck } from './KeepAsCheck';
import { ModelPane } from './ModelPane';
import { opening, parse, print, type Sentence } from './sentence';
import { SentenceView } from './SentenceView';
import { actAs, type Speaker } from './speaker';
import { useAnswer, type Request } from './useAnswer';
import { addressFor, methodOf, type Method } from './writing';

// What not every request needs is loaded when it is opened: the editor of bodies, and what is beside an answer.
const WritePane = lazy(() => import('./WritePane').then((m) => ({ default: m.WritePane })));
const PlanPane = lazy(() => import('./PlanPane').then((m) => ({ default: m.PlanPane })));
const LivePane = lazy(() => import('./LivePane').then((m) => ({ default: m.LivePane })));
const HistoryPane = lazy(() => import('./HistoryPane').then((m) => ({ default: m.HistoryPane })));

export default function AskPage({ window }: PageProps) {
  const model = useModel(window);
  if (!model.data) return <Waiting what="the model" error={model.error} again={() => void model.refetch()} />;
  return <Ask window={window} model={model.data} />;
}

const sides = ['Fields', 'SQL', 'Live', 'History'] as const;

/** The request is in the page's own address, so that it can be shared: who asks, and what. A shared write is not sent by opening it. */
function Ask({ window, model }: { window: string; model: Model }) {
  const [search, setSearch] = useSearchParams();
  const address = search.get('q') ?? print(opening(model));
  const method = methodOf(search.get('method'));
  const body = search.get('body') ?? '';
  const side = sides.find((s) => s === search.get('side')) ?? 'Fields';
  const speaker: Speaker = { roles: (search.get('as') ?? '').split(',').filter(Boolean), claims: claimsIn(search) };
  const [typed, setTyped] = useState({ of: address, text: address });
  const text = typed.of === address ? typed.text : address;
  const answer = useAnswer(window);
  const view = search.get('view') ?? '';
  const keep = (next: Partial<Request>, shown: { side?: string; view?: string } = {}) => {
    const beside = { side, view, ...shown };
    const r = { method, address, body, speaker, ...next };
    setSearch(
      {
        q: r.address,
        ...(r.speaker.roles.length > 0 ? { as: r.speaker.roles.join(','), ...claimParams(r.speaker.claims) } : {}),
        ...(r.method === 'GET' ? {} : { method: r.method, body: r.body }),
        ...(beside.side === 'Fields' ? {} : { side: beside.side }),
        ...(beside.view ? { view: beside.view } : {}),
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

  const named = model.resources.find((r) => r.name === address.replace(/^\//, '').split(/[?(]/)[0]);
  const sentence = parse(
    address,
    (named?.parameters ?? []).map((p) => p.name),
  );
  const writes = method !== 'GET';
  const as = actAs(speaker);
  const request = {
    method,
    path: address,
    ...(as ? { headers: { 'Act-As': as } } : {}),
    ...(writes ? { body } : {}),
    draft: true,
  };
  const answerPane =
    writes && answer.isIdle ? (
      <Box padding="20px" color="muted">
        Nothing is sent yet. What it would touch is shown beside the button.
      </Box>
    ) : (
      <AnswerPane answer={answer.data} failure={answer.error} view={view} onView={(v) => keep({}, { view: v })} />
    );
  return (
    <Grid templateColumns="minmax(0, 1fr)" templateRows="auto auto minmax(0, 1fr)" height="100%">
      <Box padding="16px 20px" borderBottomWidth="1px" maxHeight="40vh" overflowY="auto">
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
          onSpeaker={(next) => change({ speaker: next })}
        />
      </Box>
      <AddressLine
        window={window}
        method={method}
        text={text}
        busy={answer.isPending}
        onText={(next) => setTyped({ of: address, text: next })}
        onAsk={() => change({ address: text })}
      >
        <CopyAs window={window} request={request} />
        <KeepAsCheck window={window} asked={answer.submittedAt} />
      </AddressLine>
      <Panes
        panes={[
          ...(writes
            ? [
                {
                  id: 'write',
                  size: 46,
                  min: 25,
                  content: (
                    <Suspense fallback={<Waiting what="the editor" />}>
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
                    </Suspense>
                  ),
                },
              ]
            : []),
          { id: 'answer', size: writes ? 54 : 68, min: 25, content: answerPane },
          ...(writes
            ? []
            : [
                {
                  id: 'side',
                  size: 32,
                  min: 15,
                  content: (
                    <Flex direction="column" height="100%">
                      <Box height="36px" flex="none" paddingX="16px" borderBottomWidth="1px" fontSize="12.5px">
                        <Tabs label="Beside" options={sides} chosen={side} onChoose={(s) => keep({}, { side: s })} />
                      </Box>
                      <Box flex="1" minHeight="0">
                        <Suspense fallback={<Waiting what="it" />}>
                          {side === 'Fields' && (
                            <ModelPane
                              model={model}
                              sentence={sentence}
                              speaker={speaker}
                              onChange={(next) => change({ address: print(next) })}
                            />
                          )}
                          {side === 'SQL' && <PlanPane window={window} address={address} speaker={speaker} />}
                          {side === 'Live' && <LivePane window={window} address={address} actAs={as ?? ''} />}
                          {side === 'History' && (
                            <HistoryPane window={window} asked={answer.submittedAt} onOpen={(r) => change(r)} />
                          )}
                        </Suspense>
                      </Box>
                    </Flex>
                  ),
                },
              ]),
        ]}
      />
    </Grid>
  );
}

/** The sentence about another resource: its page stays, the rest speaks of fields that are not there. */
const about = (s: Sentence, resource: string): Sentence => ({
  ...parse(`/${resource}`),
  top: s.top,
  count: s.count,
});

interface AddressLineProps {
  window: string;
  method: Method;
  text: string;
  busy: boolean;
  onText: (text: string) => void;
  onAsk: () => void;
  children: React.ReactNode;
}

/** The URL of the sentence; it can be edited, and the sentence follows. */
function AddressLine({ window, method, text, busy, onText, onAsk, children }: AddressLineProps) {
  return (
    <Box bg="raised" borderBottomWidth="1px">
      <Flex align="center" gap="16px" padding="8px 20px" fontFamily="mono" fontSize="12.5px">
        <Box flex="1" minWidth="0">
          <chakra.span color={method === 'GET' ? 'glass' : method === 'DELETE' ? 'brick' : 'amber'} fontWeight="600">
            {method}
          </chakra.span>{' '}
          <chakra.span color="muted">/draft/{window}</chakra.span>
          <chakra.textarea
            aria-label="Path and query"
            name="address"
            spellCheck={false}
            display="block"
            width="100%"
            rows={1}
            lineHeight="20px"
            padding="0"
            maxHeight="100px"
            color="code"
            wordBreak="break-all"
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
        </Box>
        <Flex gap="8px" fontFamily="body" fontSize="14px">
          {children}
          {method === 'GET' && (
            <MainButton type="button" disabled={busy} onClick={onAsk}>
              Ask
            </MainButton>
          )}
        </Flex>
      </Flex>
    </Box>
  );
}
