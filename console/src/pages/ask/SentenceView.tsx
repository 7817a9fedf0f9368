import { Box, chakra } from '@chakra-ui/react';

import type { Model } from '../../api/hooks';
import { Chip, ChoiceList } from '../../look/parts';
import { AsText, Groups, Name, Orders, Page, Parameters, Plain, Search, Withs } from './Clauses';
import { target, type Sentence } from './sentence';
import type { Speaker } from './speaker';
import { SpeakerChip } from './SpeakerChip';
import { Wheres } from './Wheres';
import { conditionOf, methods, verbs, type Method } from './writing';

interface SentenceViewProps {
  model: Model;
  method: Method;
  address: string;
  sentence: Sentence;
  speaker: Speaker;
  onMethod: (next: Method) => void;
  onResource: (name: string) => void;
  onChange: (next: Sentence) => void;
  onSpeaker: (next: Speaker) => void;
}

/** The request as a sentence, each part a chip with choices from the model. */
export function SentenceView(props: SentenceViewProps) {
  const { model, method, sentence: s, speaker, onMethod, onResource, onChange, onSpeaker } = props;
  const at = method === 'GET' ? target(model, s.resource) : null;
  const place = s.resource.replace(/\/\$filter\(@f\)\/\$each$/, '');
  const every = conditionOf(props.address);
  const part = at && { model, resource: at.resource, sentence: s, onChange };
  return (
    <Box fontSize="19px" lineHeight="1.75" color="muted" data-part="sentence">
      As <SpeakerChip model={model} speaker={speaker} onSpeaker={onSpeaker} />{' '}
      <Chip
        label="Verb"
        choices={(close) => (
          <ChoiceList
            plain
            options={methods.map((m) => verbs[m])}
            chosen={[verbs[method]]}
            onChoose={(verb) => {
              onMethod(methods.find((m) => verbs[m] === verb) ?? 'GET');
              close();
            }}
          />
        )}
      >
        <Plain>{verbs[method]}</Plain>
      </Chip>{' '}
      {every !== undefined && 'every row of '}
      {at?.single && 'one row of '}
      <Chip
        label="Resource"
        choices={(close) => (
          <ChoiceList
            options={model.resources.map((r) => r.name)}
            chosen={[s.resource]}
            onChoose={(name) => {
              onResource(name);
              close();
            }}
          />
        )}
      >
        <Name>{place || 'nothing'}</Name>
      </Chip>
      {every !== undefined && (
        <>
          {' '}
          where{' '}
          <chakra.span fontFamily="mono" fontSize="15px" color="code">
            {every}
          </chakra.span>
        </>
      )}
      {part && (
        <>
          <Parameters {...part} />
          <Withs {...part} />
          {!at.single && (
            <>
              <Search {...part} />
              <Wheres {...part} />
              <Groups {...part} />
              <Orders {...part} />
              <Page {...part} />
            </>
          )}
        </>
      )}
      <AsText sentence={s} drawn={!!part} />.
    </Box>
  );
}
