import { Box, chakra, Flex, Grid, Splitter } from '@chakra-ui/react';
import { useEffect, useState } from 'react';
import { useSearchParams } from 'wouter';

import { useModel, type Model } from '../../api/service';
import { MainButton, Problem } from '../../look/parts';
import { AnswerPane } from './AnswerPane';
import { ModelPane } from './ModelPane';
import { opening, parse, print, type Sentence, type Speaker } from './sentence';
import { SentenceView } from './SentenceView';
import { useAnswer } from './useAnswer';

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

/** The request stands in the page's own address, so that it can be shared: who asks, and what. */
function Ask({ window, model }: { window: string; model: Model }) {
  const [search, setSearch] = useSearchParams();
  const address = search.get('q') ?? print(opening(model));
  const speaker: Speaker = {
    role: search.get('as') ?? '',
    claims: Object.fromEntries([...search.entries()].filter(([name]) => name !== 'q' && name !== 'as')),
  };
  const answer = useAnswer(window);
  const send = (to: string, as: Speaker) => {
    setSearch({ q: to, ...(as.role ? { as: as.role, ...as.claims } : {}) }, { replace: true });
    answer.mutate({ address: to, speaker: as });
  };
  const { mutate } = answer;
  // The page opens with its answer; later ones are asked for.
  useEffect(() => mutate({ address, speaker }), []); // eslint-disable-line react-hooks/exhaustive-deps

  const sentence = parse(address);
  const change = (next: Sentence) => send(print(next), speaker);
  return (
    <Grid templateRows="auto auto minmax(0, 1fr)" height="100%">
      <Box padding="18px 20px" borderBottomWidth="1px">
        <SentenceView
          model={model}
          sentence={sentence}
          speaker={speaker}
          onChange={change}
          onSpeaker={(as) => send(address, as)}
        />
      </Box>
      <AddressLine
        key={address}
        window={window}
        address={address}
        busy={answer.isPending}
        onAsk={(to) => send(to, speaker)}
      />
      <Splitter.Root
        panels={[
          { id: 'answer', minSize: 40 },
          { id: 'model', minSize: 15 },
        ]}
        defaultSize={[74, 26]}
        minHeight="0"
      >
        <Splitter.Panel id="answer">
          <AnswerPane answer={answer.data} failure={answer.error?.message} />
        </Splitter.Panel>
        <Splitter.ResizeTrigger id="answer:model" aria-label="Resize">
          <Splitter.ResizeTriggerSeparator bg="mullion" width="1px" />
        </Splitter.ResizeTrigger>
        <Splitter.Panel id="model">
          <ModelPane model={model} sentence={sentence} speaker={speaker} onChange={change} />
        </Splitter.Panel>
      </Splitter.Root>
    </Grid>
  );
}

interface AddressLineProps {
  window: string;
  address: string;
  busy: boolean;
  onAsk: (address: string) => void;
}

/** The URL of the sentence; it can be edited, and the sentence follows. */
function AddressLine({ window, address, busy, onAsk }: AddressLineProps) {
  const [text, setText] = useState(address);
  return (
    <chakra.form
      bg="raised"
      borderBottomWidth="1px"
      onSubmit={(e) => {
        e.preventDefault();
        onAsk(text);
      }}
    >
      <Flex align="center" gap="12px" padding="12px 20px" fontFamily="mono" fontSize="12.5px">
        <chakra.span color="glass" fontWeight="600">
          GET
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
            onChange={(e) => setText(e.target.value.replaceAll('\n', ''))}
            onKeyDown={(e) => {
              if (e.key === 'Enter') {
                e.preventDefault();
                onAsk(text);
              }
            }}
          />
        </chakra.label>
        <MainButton type="submit" disabled={busy} fontFamily="body">
          Ask
        </MainButton>
      </Flex>
    </chakra.form>
  );
}
