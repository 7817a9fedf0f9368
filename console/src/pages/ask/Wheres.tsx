import { Flex } from '@chakra-ui/react';
import { Fragment, useState } from 'react';

import type { Field, Resource } from '../../api/hooks';
import { Chip, Choice, Entry, Form, MainButton, QuietButton } from '../../look/parts';
import { KeptText, Name, Plain, type ClauseProps } from './Clauses';
import {
  comparable,
  literalOf,
  operatorsFor,
  spoken,
  target,
  typedOf,
  wordOf,
  words,
  type Condition,
} from './sentence';

/** Which rows: conditions that all must hold, or a filter as text where it is more than that. */
export function Wheres({ model, resource, sentence: s, onChange }: ClauseProps) {
  const put = (at: number, c: Condition | null) => {
    const next = [...s.conditions];
    if (c) next[at] = c;
    else next.splice(at, 1);
    onChange({ ...s, conditions: next });
  };
  if (s.filter)
    return (
      <>
        , where <KeptText>{s.filter}</KeptText>
      </>
    );
  const choices = fieldsOf(resource, (to) => target(model, to)?.resource);
  return (
    <>
      {s.conditions.map((c, i) => (
        <Fragment key={`${c.field} ${c.operator} ${c.literal}`}>
          {i === 0 ? ', where ' : ' and '}
          <Chip
            label={`Condition ${String(i + 1)}`}
            choices={(close) => (
              <ConditionForm
                fields={choices}
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
              {wordOf(c)} {spoken(c.literal)}
            </Plain>
          </Chip>
        </Fragment>
      ))}{' '}
      <Chip
        label="Add a condition"
        choices={(close) => (
          <ConditionForm
            fields={choices}
            condition={null}
            onDone={(next) => {
              put(s.conditions.length, next);
              close();
            }}
          />
        )}
      >
        {s.conditions.length === 0 ? (
          '+ where'
        ) : (
          <span aria-label="Another condition" role="img">
            +
          </span>
        )}
      </Chip>
    </>
  );
}

type Named = Field & { path: string };

/** The fields that a condition can be about: those of the resource, and of what it belongs to. */
function fieldsOf(resource: Resource, find: (resource: string) => Resource | undefined): Named[] {
  const own = resource.fields.map((f) => ({ ...f, path: f.name }));
  const others = resource.relations
    .filter((r) => !r.many)
    .flatMap((r) => (find(r.to)?.fields ?? []).map((f) => ({ ...f, path: `${r.name}/${f.name}` })));
  return [...own, ...others].filter((f) => comparable.includes(f.kind));
}

interface ConditionFormProps {
  fields: Named[];
  condition: Condition | null;
  onDone: (c: Condition | null) => void;
}

function ConditionForm({ fields, condition, onDone }: ConditionFormProps) {
  const [field, setField] = useState(condition?.field ?? fields[0]?.path ?? '');
  const [op, setOp] = useState(condition?.operator ?? 'eq');
  const [typed, setTyped] = useState(condition ? typedOf(condition.literal) : '');
  const chosen = fields.find((f) => f.path === field);
  const kind = chosen?.kind ?? (/^\(?'/.test(condition?.literal ?? '') ? 'string' : 'number');
  const operators = operatorsFor(kind);
  const operator = operators.includes(op) ? op : 'eq';
  return (
    <Form
      onSubmit={() => {
        onDone({ field, operator, literal: literalOf(kind, typed, operator) });
      }}
    >
      <Choice aria-label="Field" name="field" value={field} onChange={(e) => setField(e.target.value)}>
        {!chosen && <option value={field}>{field}</option>}
        {fields.map((f) => (
          <option key={f.path}>{f.path}</option>
        ))}
      </Choice>
      <Choice aria-label="Comparison" name="operator" value={operator} onChange={(e) => setOp(e.target.value)}>
        {operators.map((o) => (
          <option key={o} value={o}>
            {words[o]}
          </option>
        ))}
      </Choice>
      <ValueEntry field={chosen} operator={operator} typed={typed} onTyped={setTyped} />
      <Flex gap="8px">
        <MainButton type="submit">Set</MainButton>
        {condition && (
          <QuietButton type="button" onClick={() => onDone(null)}>
            Remove
          </QuietButton>
        )}
      </Flex>
    </Form>
  );
}

const examples: Record<string, string> = {
  date: '2026-07-01',
  timestamp: '2026-07-01T00:00:00Z',
  time: '12:30:00',
};

interface ValueEntryProps {
  field: Field | undefined;
  operator: string;
  typed: string;
  onTyped: (v: string) => void;
}

function ValueEntry({ field, operator, typed, onTyped }: ValueEntryProps) {
  const values = field?.kind === 'boolean' ? ['true', 'false'] : (field?.values ?? []);
  if (values.length > 0 && operator !== 'in')
    return (
      <Choice aria-label="Value" name="value" required value={typed} onChange={(e) => onTyped(e.target.value)}>
        <option value="" disabled>
          choose …
        </option>
        {values.map((v) => (
          <option key={v}>{v}</option>
        ))}
        {field?.nullable && <option value="null">null: none</option>}
      </Choice>
    );
  return (
    <Entry
      aria-label="Value"
      name="value"
      required
      placeholder={operator === 'in' ? values.join(', ') || 'one, another' : examples[field?.kind ?? '']}
      value={typed}
      onChange={(e) => onTyped(e.target.value)}
    />
  );
}
