import { Box, chakra, Flex } from '@chakra-ui/react';
import { Fragment, useState } from 'react';

import type { Model, Resource } from '../../api/hooks';
import { count } from '../../look/format';
import { Chip, Choice, ChoiceList, QuietButton, TextButton, TextForm } from '../../look/parts';
import { comparable, methods, type Aggregate, type Sentence } from './sentence';

export const Name = chakra('span', { base: { fontFamily: 'mono', fontSize: '17px', fontWeight: 600, color: 'chalk' } });
export const Aside = chakra('span', { base: { fontFamily: 'mono', fontSize: '15px', color: 'muted' } });
export const Plain = chakra('span', { base: { color: 'chalk', fontWeight: 600 } });

export interface ClauseProps {
  model: Model;
  resource: Resource;
  sentence: Sentence;
  onChange: (next: Sentence) => void;
}

/** The parameters of a query. */
export function Parameters({ resource, sentence: s, onChange }: ClauseProps) {
  return (resource.parameters ?? []).map((p, i) => (
    <Fragment key={p.name}>
      {i === 0 ? ' with ' : ', '}
      <Chip
        label={`Parameter ${p.name}`}
        choices={(close) => (
          <TextForm
            label={`${p.name}, ${p.kind}${p.optional ? ', may be left out' : ''}`}
            value={s.parameters[p.name] ?? ''}
            required={!p.optional}
            onDone={(value) => {
              const all = Object.entries({ ...s.parameters, [p.name]: value }).filter(([, v]) => v !== '');
              onChange({ ...s, parameters: Object.fromEntries(all) });
              close();
            }}
          />
        )}
      >
        <Aside>{p.name}</Aside> <Plain>{s.parameters[p.name] ?? (p.optional ? 'any' : '…')}</Plain>
      </Chip>
    </Fragment>
  ));
}

/** What comes along with each row. */
export function Withs({ resource, sentence: s, onChange }: ClauseProps) {
  const names = s.expand.map((e) => e.relation);
  if (resource.relations.length === 0 || s.grouping) return null;
  const toggle = (name: string) =>
    onChange({
      ...s,
      expand: names.includes(name)
        ? s.expand.filter((e) => e.relation !== name)
        : [...s.expand, { relation: name, options: '' }],
    });
  return (
    <>
      {names.length > 0 && ' with'}{' '}
      {s.expand.map((e, i) => (
        <Fragment key={e.relation}>
          {i > 0 && ' and '}
          <Chip
            label={`With ${e.relation}`}
            choices={(close) => (
              <>
                <TextForm
                  label={`Options of ${e.relation}`}
                  value={e.options}
                  help="Such as select=name;orderby=name;top=2"
                  onDone={(options) => {
                    onChange({ ...s, expand: s.expand.map((o) => (o === e ? { ...o, options } : o)) });
                    close();
                  }}
                />
                <Box marginTop="8px">
                  <TextButton
                    onClick={() => {
                      toggle(e.relation);
                      close();
                    }}
                  >
                    without {e.relation}
                  </TextButton>
                </Box>
              </>
            )}
          >
            <Name>{e.relation}</Name>
            {e.options && <Aside> {optionsAsWords(e.options)}</Aside>}
          </Chip>
        </Fragment>
      ))}{' '}
      <Chip
        label="With"
        choices={() => <ChoiceList options={resource.relations.map((r) => r.name)} chosen={names} onChoose={toggle} />}
      >
        {names.length === 0 ? '+ with' : '+'}
      </Chip>
    </>
  );
}

/** Options of what comes along, as people say them where that is simple. */
function optionsAsWords(options: string): string {
  return options
    .split(';')
    .map((o) => {
      const [name = '', value = ''] = o.split(/=(.*)/s);
      if (name === 'select') return value.replaceAll(',', ', ');
      if (name === 'top') return `first ${value}`;
      if (name === 'orderby') return `by ${value}`;
      return o;
    })
    .join(', ');
}

export function Search({ sentence: s, onChange }: ClauseProps) {
  if (!s.search) return null;
  return (
    <>
      , found by{' '}
      <Chip
        label="Search"
        choices={(close) => (
          <TextForm
            label="Words to search"
            value={s.search}
            help="Empty: no search."
            onDone={(search) => {
              onChange({ ...s, search });
              close();
            }}
          />
        )}
      >
        <Plain>“{s.search}”</Plain>
      </Chip>
    </>
  );
}

/** Rows put together, and what is added up of them. */
export function Groups({ resource, sentence: s, onChange }: ClauseProps) {
  if (s.apply)
    return (
      <>
        , applying <KeptText>{s.apply}</KeptText>
      </>
    );
  if (!s.grouping) return null;
  const g = s.grouping;
  const by = g.by.join(', ');
  const sums = g.aggregates.map(aggregateAsWords).join(', ');
  return (
    <>
      , put together by{' '}
      <Chip label="Groups" choices={() => <GroupForm resource={resource} sentence={s} onChange={onChange} />}>
        <Name>{by || 'all'}</Name>
        {sums && (
          <>
            {' '}
            with <Plain>{sums}</Plain>
          </>
        )}
      </Chip>
    </>
  );
}

function aggregateAsWords(a: Aggregate): string {
  const method = { sum: 'sum', average: 'average', min: 'least', max: 'greatest', countdistinct: 'different' }[
    a.method
  ];
  return a.field === '$count' ? `how many as ${a.name}` : `${method ?? a.method} of ${a.field} as ${a.name}`;
}

function GroupForm({
  resource,
  sentence: s,
  onChange,
}: {
  resource: Resource;
  sentence: Sentence;
  onChange: (next: Sentence) => void;
}) {
  const g = s.grouping ?? { by: [], aggregates: [] };
  const [method, setMethod] = useState('sum');
  const fields = resource.fields.filter((f) => comparable.includes(f.kind)).map((f) => f.name);
  const numbers = resource.fields.filter((f) => ['integer', 'number'].includes(f.kind)).map((f) => f.name);
  const put = (next: typeof g) => onChange({ ...s, grouping: next });
  return (
    <Flex direction="column" gap="10px">
      <Box>
        By
        <ChoiceList
          options={fields}
          chosen={g.by}
          onChoose={(f) => put({ ...g, by: g.by.includes(f) ? g.by.filter((o) => o !== f) : [...g.by, f] })}
        />
      </Box>
      {g.aggregates.map((a) => (
        <Flex key={a.name} gap="8px">
          <chakra.span flex="1">{aggregateAsWords(a)}</chakra.span>
          <TextButton onClick={() => put({ ...g, aggregates: g.aggregates.filter((o) => o !== a) })}>remove</TextButton>
        </Flex>
      ))}
      <Flex gap="8px">
        <Choice aria-label="Method" value={method} onChange={(e) => setMethod(e.target.value)}>
          {methods.map((m) => (
            <option key={m}>{m}</option>
          ))}
        </Choice>
        <Choice
          aria-label="Add up a field"
          value=""
          onChange={(e) => {
            const field = e.target.value;
            put({ ...g, aggregates: [...g.aggregates, { field, method, name: `${method}_of_${field}` }] });
          }}
        >
          <option value="">of …</option>
          {(['min', 'max', 'countdistinct'].includes(method) ? fields : numbers).map((f) => (
            <option key={f}>{f}</option>
          ))}
        </Choice>
      </Flex>
      <Flex gap="8px">
        {!g.aggregates.some((a) => a.field === '$count') && (
          <QuietButton
            type="button"
            onClick={() =>
              put({ ...g, aggregates: [...g.aggregates, { field: '$count', method: '', name: 'number' }] })
            }
          >
            Count them
          </QuietButton>
        )}
        <QuietButton type="button" onClick={() => onChange({ ...s, grouping: null })}>
          Row by row
        </QuietButton>
      </Flex>
    </Flex>
  );
}

export function Orders({ resource, sentence: s, onChange }: ClauseProps) {
  const toggle = (field: string) => {
    const is = s.order.find((o) => o.field === field);
    if (!is) onChange({ ...s, order: [...s.order, { field, desc: false }] });
    else if (!is.desc) onChange({ ...s, order: s.order.map((o) => (o === is ? { ...o, desc: true } : o)) });
    else onChange({ ...s, order: s.order.filter((o) => o !== is) });
  };
  const fields = s.grouping
    ? [...s.grouping.by, ...s.grouping.aggregates.map((a) => a.name)]
    : resource.fields.filter((f) => comparable.includes(f.kind)).map((f) => f.name);
  const kindOf = (field: string) => resource.fields.find((f) => f.name === field)?.kind;
  return (
    <>
      {s.order.length > 0 ? ', by ' : ' '}
      <Chip
        label="Order"
        choices={() => (
          <>
            <Box color="muted" marginBottom="8px">
              Choose once: the first first. Twice: the last first. Three times: no more.
            </Box>
            <ChoiceList options={fields} chosen={s.order.map((o) => o.field)} onChoose={toggle} />
          </>
        )}
      >
        {s.order.map((o, i) => (
          <Fragment key={o.field}>
            {i > 0 && ' then '}
            <Name>{o.field}</Name>
            <Plain>, {wayOf(o, kindOf(o.field))}</Plain>
          </Fragment>
        ))}
        {s.order.length === 0 && '+ order'}
      </Chip>
    </>
  );
}

/** Which end comes first, as people say it of that kind of value. */
function wayOf({ desc }: { desc: boolean }, kind: string | undefined): string {
  if (kind === 'timestamp' || kind === 'date') return desc ? 'latest first' : 'earliest first';
  if (kind === 'integer' || kind === 'number') return desc ? 'greatest first' : 'least first';
  return desc ? 'last first' : 'first first';
}

export function Page({ sentence: s, onChange }: ClauseProps) {
  return (
    <>
      ,{' '}
      <Chip
        label="How many"
        choices={(close) => (
          <ChoiceList
            plain
            options={['a page', '5', '20', '50', '200', '1000']}
            chosen={[s.top === null ? 'a page' : String(s.top)]}
            onChoose={(n) => {
              onChange({ ...s, top: n === 'a page' ? null : Number(n) });
              close();
            }}
          />
        )}
      >
        <Plain>{s.top === null ? 'a page' : `the first ${count(s.top)}`}</Plain>
      </Chip>
      {s.skip > 0 && (
        <>
          {' '}
          after{' '}
          <Chip
            label="Skipped"
            choices={(close) => (
              <TextForm
                label="Rows to leave out at the beginning"
                value={String(s.skip)}
                onDone={(n) => {
                  onChange({ ...s, skip: Number(n) || 0 });
                  close();
                }}
              />
            )}
          >
            <Plain>{count(s.skip)}</Plain>
          </Chip>
        </>
      )}
      ,{' '}
      <Chip
        label="Counted"
        choices={(close) => (
          <ChoiceList
            plain
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
      <More sentence={s} onChange={onChange} />
    </>
  );
}

/** What is not in the sentence yet. */
function More({ sentence: s, onChange }: { sentence: Sentence; onChange: (next: Sentence) => void }) {
  const [what, setWhat] = useState('');
  const options: Record<string, () => void> = {
    ...(s.search ? {} : { 'search for words': () => setWhat('search') }),
    ...(s.compute ? {} : { 'compute a value': () => setWhat('compute') }),
    ...(s.grouping || s.apply
      ? {}
      : {
          'put rows together': () =>
            onChange({
              ...s,
              expand: [],
              select: [],
              order: [],
              grouping: { by: [], aggregates: [{ field: '$count', method: '', name: 'number' }] },
            }),
        }),
  };
  return (
    <>
      {' '}
      <Chip
        label="More"
        choices={(close) =>
          what === '' ? (
            <ChoiceList
              plain
              options={Object.keys(options)}
              chosen={[]}
              onChoose={(o) => {
                options[o]?.();
                if (o === 'put rows together') close();
              }}
            />
          ) : (
            <TextForm
              label={what === 'search' ? 'Words to search' : 'An expression and its name'}
              value=""
              help={what === 'search' ? 'Such as petrel or "grey petrel"' : 'Such as year(eta) as arrival_year'}
              onDone={(text) => {
                onChange(what === 'search' ? { ...s, search: text } : { ...s, compute: text });
                setWhat('');
                close();
              }}
            />
          )
        }
      >
        +
      </Chip>
    </>
  );
}

/** A part of the request that the sentence has no words for. */
export const KeptText = ({ children }: { children: string }) => (
  <chakra.span
    fontFamily="mono"
    fontSize="15px"
    color="code"
    borderWidth="1px"
    borderStyle="dashed"
    padding="0 4px"
    marginRight="4px"
    title="The sentence has no words for this. Edit it in the address below."
  >
    {children}
  </chakra.span>
);

/** What the sentence has no words for: it stays as it is, and is marked so. */
export function AsText({ sentence: s, drawn }: { sentence: Sentence; drawn: boolean }) {
  const parts = [...(s.compute ? [`compute=${s.compute}`] : []), ...s.rest];
  if (!drawn || parts.length === 0) return null;
  return (
    <>
      , and as text{' '}
      {parts.map((p) => (
        <KeptText key={p}>{p}</KeptText>
      ))}
    </>
  );
}
