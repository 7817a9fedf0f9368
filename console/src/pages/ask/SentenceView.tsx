import { Box, chakra, Flex } from '@chakra-ui/react';
import { Fragment, useState } from 'react';

import type { Field, Model, Resource } from '../../api/service';
import { Choice, Entry, MainButton, QuietButton } from '../../look/parts';
import { Chip, ChoiceList } from './Chip';
import {
  comparable,
  literalOf,
  operatorsFor,
  typedOf,
  wordOf,
  words,
  type Condition,
  type Sentence,
  type Speaker,
} from './sentence';
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

const operator = 'operator';

/** The request as a sentence, each part a chip with choices from the model. */
export function SentenceView(props: SentenceViewProps) {
  const { model, method, sentence: s, speaker, onMethod, onResource, onChange, onSpeaker } = props;
  const resource = method === 'GET' ? model.resources.find((r) => r.name === s.resource) : undefined;
  const place = s.resource.replace(/\/\$filter\(@f\)\/\$each$/, '');
  const every = conditionOf(props.address);
  return (
    <Box fontSize="19px" lineHeight="1.75" color="muted" data-part="sentence">
      As <SpeakerChip model={model} speaker={speaker} onSpeaker={onSpeaker} />{' '}
      <Chip
        label="Verb"
        choices={(close) => (
          <ChoiceList
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
      {resource && (
        <>
          <Withs resource={resource} sentence={s} onChange={onChange} />
          <Wheres resource={resource} sentence={s} onChange={onChange} />
          <Orders resource={resource} sentence={s} onChange={onChange} />
          <Page sentence={s} onChange={onChange} />
        </>
      )}
      .
    </Box>
  );
}

const Name = chakra('span', { base: { fontFamily: 'mono', fontSize: '17px', fontWeight: 600, color: 'chalk' } });
const Aside = chakra('span', { base: { fontFamily: 'mono', fontSize: '15px', color: 'muted' } });
const Plain = chakra('span', { base: { color: 'chalk', fontWeight: 600 } });

function SpeakerChip({
  model,
  speaker,
  onSpeaker,
}: {
  model: Model;
  speaker: Speaker;
  onSpeaker: (s: Speaker) => void;
}) {
  return (
    <Chip
      label="As whom"
      choices={(close) => (
        <SpeakerForm
          model={model}
          speaker={speaker}
          onDone={(next) => {
            onSpeaker(next);
            close();
          }}
        />
      )}
    >
      <Plain>{speaker.role || operator}</Plain>
      {Object.entries(speaker.claims).map(([name, v]) => (
        <Aside key={name}>
          {' '}
          {name} {v.length > 12 ? `${v.slice(0, 8)}…` : v}
        </Aside>
      ))}
    </Chip>
  );
}

function SpeakerForm({ model, speaker, onDone }: { model: Model; speaker: Speaker; onDone: (s: Speaker) => void }) {
  const [role, setRole] = useState(speaker.role);
  const [claims, setClaims] = useState(speaker.claims);
  const needed = model.roles.find((r) => r.name === role)?.claims ?? [];
  return (
    <chakra.form
      display="flex"
      flexDirection="column"
      gap="10px"
      onSubmit={(e) => {
        e.preventDefault();
        onDone({ role, claims: Object.fromEntries(needed.map((c) => [c.name, claims[c.name] ?? ''])) });
      }}
    >
      <Choice aria-label="Role" name="role" value={role} onChange={(e) => setRole(e.target.value)}>
        <option value="">{operator}: all that is exposed</option>
        {model.roles.map((r) => (
          <option key={r.name} value={r.name}>
            {r.name}
            {r.anonymous ? ', without a token' : ''}
          </option>
        ))}
      </Choice>
      {needed.map((c) => (
        <chakra.label key={c.name}>
          <chakra.span fontFamily="mono" fontSize="13px">
            {c.name}
          </chakra.span>
          , {c.kind}
          <Entry
            name={c.name}
            required
            value={claims[c.name] ?? ''}
            onChange={(e) => setClaims({ ...claims, [c.name]: e.target.value })}
          />
        </chakra.label>
      ))}
      <MainButton type="submit" alignSelf="flex-start">
        Act so
      </MainButton>
    </chakra.form>
  );
}

interface PartProps {
  resource: Resource;
  sentence: Sentence;
  onChange: (next: Sentence) => void;
}

function Withs({ resource, sentence: s, onChange }: PartProps) {
  const names = s.expand.map((e) => e.relation);
  if (resource.relations.length === 0) return null;
  return (
    <>
      {names.length > 0 && ' with'}{' '}
      <Chip
        label="With"
        choices={() => (
          <ChoiceList
            options={resource.relations.map((r) => r.name)}
            chosen={names}
            onChoose={(name) =>
              onChange({
                ...s,
                expand: names.includes(name)
                  ? s.expand.filter((e) => e.relation !== name)
                  : [...s.expand, { relation: name, options: '' }],
              })
            }
          />
        )}
      >
        {names.length === 0 && '+ with'}
        {s.expand.map((e, i) => (
          <Fragment key={e.relation}>
            {i > 0 && ' and '}
            <Name>{e.relation}</Name>
            {e.options && <Aside> {e.options.replaceAll(';', ', ')}</Aside>}
          </Fragment>
        ))}
      </Chip>
    </>
  );
}

function Wheres({ resource, sentence: s, onChange }: PartProps) {
  const put = (at: number, c: Condition | null) => {
    const next = [...s.conditions];
    if (c) next[at] = c;
    else next.splice(at, 1);
    onChange({ ...s, conditions: next });
  };
  if (s.filter)
    return (
      <>
        , where{' '}
        <chakra.span fontFamily="mono" fontSize="15px" color="code">
          {s.filter}
        </chakra.span>
      </>
    );
  return (
    <>
      {s.conditions.map((c, i) => (
        <Fragment key={`${c.field} ${c.operator} ${c.literal}`}>
          {i === 0 ? ', where ' : ' and '}
          <Chip
            label={`Condition ${String(i + 1)}`}
            choices={(close) => (
              <ConditionForm
                resource={resource}
                condition={c}
                onDone={(next) => {
                  put(i, next);
                  close();
                }}
              />
            )}
          >
            <Name>{c.field}</Name>
            <Plain>
              {' '}
              {wordOf(c)} {typedOf(c.literal)}
            </Plain>
          </Chip>
        </Fragment>
      ))}{' '}
      <Chip
        label="Add a condition"
        choices={(close) => (
          <ConditionForm
            resource={resource}
            condition={null}
            onDone={(next) => {
              put(s.conditions.length, next);
              close();
            }}
          />
        )}
      >
        {s.conditions.length === 0 ? '+ where' : '+'}
      </Chip>
    </>
  );
}

interface ConditionFormProps {
  resource: Resource;
  condition: Condition | null;
  onDone: (c: Condition | null) => void;
}

function ConditionForm({ resource, condition, onDone }: ConditionFormProps) {
  const fields = resource.fields.filter((f) => comparable.includes(f.kind));
  const [field, setField] = useState(condition?.field ?? fields[0]?.name ?? '');
  const [op, setOp] = useState(condition?.operator ?? 'eq');
  const [typed, setTyped] = useState(condition ? typedOf(condition.literal) : '');
  const chosen = fields.find((f) => f.name === field);
  const kind = chosen?.kind ?? (condition?.literal.startsWith("'") ? 'string' : 'number');
  const operators = operatorsFor(kind);
  const operator = operators.includes(op) ? op : 'eq';
  return (
    <chakra.form
      display="flex"
      flexDirection="column"
      gap="10px"
      onSubmit={(e) => {
        e.preventDefault();
        onDone({ field, operator, literal: literalOf(kind, typed) });
      }}
    >
      <Choice aria-label="Field" name="field" value={field} onChange={(e) => setField(e.target.value)}>
        {!chosen && <option value={field}>{field}</option>}
        {fields.map((f) => (
          <option key={f.name}>{f.name}</option>
        ))}
      </Choice>
      <Choice aria-label="Comparison" name="operator" value={operator} onChange={(e) => setOp(e.target.value)}>
        {operators.map((o) => (
          <option key={o} value={o}>
            {words[o]}
          </option>
        ))}
      </Choice>
      <ValueEntry field={chosen} typed={typed} onTyped={setTyped} />
      <Flex gap="8px">
        <MainButton type="submit">Set</MainButton>
        {condition && (
          <QuietButton type="button" onClick={() => onDone(null)}>
            Take out
          </QuietButton>
        )}
      </Flex>
    </chakra.form>
  );
}

const examples: Record<string, string> = {
  date: '2026-07-01',
  timestamp: '2026-07-01T00:00:00Z',
  time: '12:30:00',
};

function ValueEntry({
  field,
  typed,
  onTyped,
}: {
  field: Field | undefined;
  typed: string;
  onTyped: (v: string) => void;
}) {
  const values = field?.kind === 'boolean' ? ['true', 'false'] : (field?.values ?? []);
  if (values.length > 0)
    return (
      <Choice aria-label="Value" name="value" required value={typed} onChange={(e) => onTyped(e.target.value)}>
        <option value="" disabled>
          choose …
        </option>
        {values.map((v) => (
          <option key={v}>{v}</option>
        ))}
      </Choice>
    );
  return (
    <Entry
      aria-label="Value"
      name="value"
      required
      placeholder={examples[field?.kind ?? '']}
      value={typed}
      onChange={(e) => onTyped(e.target.value)}
    />
  );
}

function Orders({ resource, sentence: s, onChange }: PartProps) {
  const first = s.order[0];
  const choose = (field: string) => {
    const same = first?.field === field;
    onChange({ ...s, order: same && first.desc ? [] : [{ field, desc: same }] });
  };
  return (
    <>
      {first ? ', by ' : ' '}
      <Chip
        label="Order"
        choices={() => (
          <>
            <Box color="muted" marginBottom="8px">
              Once: upward. Twice: downward.
            </Box>
            <ChoiceList
              options={resource.fields.filter((f) => comparable.includes(f.kind)).map((f) => f.name)}
              chosen={s.order.map((o) => o.field)}
              onChoose={choose}
            />
          </>
        )}
      >
        {s.order.map((o, i) => (
          <Fragment key={o.field}>
            {i > 0 && ' then '}
            <Name>{o.field}</Name>
            <Plain>{o.desc ? ', last first' : ', first first'}</Plain>
          </Fragment>
        ))}
        {!first && '+ order'}
      </Chip>
    </>
  );
}

function Page({ sentence: s, onChange }: { sentence: Sentence; onChange: (next: Sentence) => void }) {
  return (
    <>
      , the first{' '}
      <Chip
        label="How many"
        choices={(close) => (
          <ChoiceList
            options={['5', '20', '50', '200', '1000']}
            chosen={[String(s.top)]}
            onChoose={(n) => {
              onChange({ ...s, top: Number(n) });
              close();
            }}
          />
        )}
      >
        <Plain>{s.top}</Plain>
      </Chip>
      ,{' '}
      <Chip
        label="Counted"
        choices={(close) => (
          <ChoiceList
            options={['counted', 'not counted']}
            chosen={[s.count ? 'counted' : 'not counted']}
            onChoose={(c) => {
              onChange({ ...s, count: c === 'counted' });
              close();
            }}
          />
        )}
      >
        <Plain>{s.count ? 'counted' : 'not counted'}</Plain>
      </Chip>
    </>
  );
}
