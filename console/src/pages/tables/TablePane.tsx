import { Box, chakra, Flex } from '@chakra-ui/react';
import { Fragment, useId, useState } from 'react';
import { Link } from 'wouter';

import type { Sketch, SketchEdit, TableView } from '../../api/hooks';
import { count, counted } from '../../look/format';
import {
  Chip,
  Entry,
  MainButton,
  Mono,
  PaneHead,
  QuietButton,
  Section,
  Table,
  Td,
  TextForm,
  Th,
  Tick,
  Waiting,
} from '../../look/parts';
import type { Edits } from './useDocument';

interface TablePaneProps {
  window: string;
  entry: Sketch['tables'][number];
  doc: Edits;
}

/** One table: the resource that shows it, as a sentence, its columns and its relations. */
export function TablePane({ window, entry, doc }: TablePaneProps) {
  const now = doc.meaning.data?.table;
  const [last, setLast] = useState(now);
  if (now && now !== last && now.table === entry.table) setLast(now);
  const view = now?.table === entry.table ? now : last;
  const edit = (edits: SketchEdit[]) => doc.edits.mutate(edits);
  if (!view)
    return (doc.meaning.data?.mistakes.length ?? 0) > 0 ? (
      <Section>The document has mistakes. Correct them on the right to see the table.</Section>
    ) : (
      <Waiting what="the table" />
    );
  return (
    <Box height="100%" overflow="auto" data-part="table" tabIndex={-1}>
      {entry.resource ? (
        <>
          <Sentence view={view} onEdit={edit} />
          {(view.key.length === 0 || view.not_possible) && <WhyNot view={view} onEdit={edit} />}
          <Columns view={view} onEdit={edit} />
          <Relations window={window} view={view} />
        </>
      ) : (
        <NotShown view={view} onEdit={edit} />
      )}
    </Box>
  );
}

interface PartProps {
  view: TableView;
  onEdit: (edits: SketchEdit[]) => void;
}

const allOperations = ['read', 'create', 'update', 'delete'];

/** What the table can do at all; the document may allow less. */
function possible(view: TableView): string[] {
  if (view.key.length > 0 && !view.not_possible) return allOperations;
  return view.kind.includes('view') ? view.operations : ['read', 'create'];
}

/** Why something is not possible, as a sentence. */
function whyNot(view: TableView): string {
  const why = (view.not_possible ?? 'it has no key, so no row can be named, changed or deleted').split(';')[0] ?? '';
  return `${why.charAt(0).toUpperCase()}${why.slice(1)}.`;
}

/** The table as a sentence, each part of which can be changed. */
function Sentence({ view, onEdit }: PartProps) {
  const at = (...path: string[]) => ['resources', view.resource, ...path];
  return (
    <Section fontSize="19px" lineHeight="1.7" color="muted" data-part="table-sentence">
      <Mono color="chalk">{view.table}</Mono> is{' '}
      <Chip
        label="Name"
        choices={(close) => (
          <TextForm
            label="Name in the API"
            value={view.resource}
            help="Grants and relations that name it follow."
            onDone={(name) => {
              if (name && name !== view.resource) onEdit([{ at: at(), rename: name }]);
              close();
            }}
          />
        )}
      >
        <Mono color="chalk" fontWeight="600">
          /{view.resource}
        </Mono>
      </Chip>{' '}
      with{' '}
      <Chip label="Operations" choices={() => <Operations view={view} onEdit={onEdit} />}>
        {view.operations.map((o, i) => (
          <Fragment key={o}>
            {i > 0 && ', '}
            <chakra.b color="chalk">{o}</chakra.b>
          </Fragment>
        ))}
      </Chip>
      {view.key.length > 0 && (
        <>
          , by key{' '}
          <Chip label="Key" choices={(close) => <KeyForm view={view} onEdit={onEdit} onDone={close} />}>
            <Mono color="chalk">{view.key.join(', ')}</Mono>
          </Chip>
        </>
      )}
      ,{' '}
      <Chip
        label="Order"
        choices={(close) => (
          <TextForm
            label="Order where the caller gives none"
            value={view.order.join(', ')}
            help="Fields, each with desc after it for the last first: eta desc, id."
            onDone={(text) => {
              const list = text
                .split(',')
                .map((o) => o.trim())
                .filter(Boolean);
              onEdit([list.length > 0 ? { at: at('order'), value: list } : { at: at('order') }]);
              close();
            }}
          />
        )}
      >
        {view.order.length > 0 ? (
          <Mono color="chalk">{view.order.join(', ')}</Mono>
        ) : (
          <chakra.b color="chalk">{view.key.length > 0 ? 'in its order' : 'in no order'}</chakra.b>
        )}
        {view.order.length > 0 && ' first'}
      </Chip>
      , pages of{' '}
      <Chip
        label="Page"
        choices={(close) => (
          <TextForm
            label="Rows of a page where the caller names none"
            value={String(view.page)}
            onDone={(n) => {
              if (Number(n) > 0) onEdit([{ at: at('page', 'default'), value: Number(n) }]);
              close();
            }}
          />
        )}
      >
        <chakra.b color="chalk">{count(view.page)}</chakra.b>
      </Chip>
      ,{' '}
      <Chip
        label="Longest page"
        choices={(close) => (
          <TextForm
            label="Rows of one answer at most"
            value={view.max_page > 0 ? String(view.max_page) : ''}
            help="Empty: no maximum, so that one answer may hold every row."
            onDone={(n) => {
              onEdit([{ at: at('page', 'max'), value: Number(n) > 0 ? Number(n) : 'none' }]);
              close();
            }}
          />
        )}
      >
        {view.max_page > 0 ? `${count(view.max_page)} at most` : 'no maximum'}
      </Chip>
      .
      <Box fontSize="14px" marginTop="4px">
        <Chip
          label="What it is"
          choices={(close) => (
            <TextForm
              label="What it is, for callers"
              value={view.about}
              onDone={(text) => {
                if (text !== view.about) onEdit([text ? { at: at('about'), value: text } : { at: at('about') }]);
                close();
              }}
            />
          )}
        >
          {view.about || '+ say what it is'}
        </Chip>
        {view.rows >= 0 && <span> About {counted(view.rows, 'row')}.</span>}
      </Box>
    </Section>
  );
}

function Operations({ view, onEdit }: PartProps) {
  const can = possible(view);
  const toggle = (o: string) => {
    const next = allOperations.filter((n) => view.operations.includes(n) !== (n === o));
    const path = ['resources', view.resource, 'operations'];
    onEdit([can.every((n) => next.includes(n)) ? { at: path } : { at: path, value: next }]);
  };
  return (
    <>
      <Box color="muted" marginBottom="6px">
        An upper bound over all roles; what each role may do is set under Lights.
      </Box>
      {allOperations.map((o) => (
        <chakra.label key={o} display="flex" gap="8px" alignItems="baseline" paddingY="2px">
          <Tick name={o} checked={view.operations.includes(o)} disabled={!can.includes(o)} onChange={() => toggle(o)} />
          {o}
        </chakra.label>
      ))}
      {can.length < 4 && (
        <Box color="amber" marginTop="6px">
          {whyNot(view)}
        </Box>
      )}
    </>
  );
}

/** Why an operation is not possible, and the key that is asked for where there is none. */
function WhyNot({ view, onEdit }: PartProps) {
  const [asking, setAsking] = useState(false);
  return (
    <Section color="amber" data-part="why-not">
      <Flex gap="12px" align="center" wrap="wrap">
        <chakra.span flex="1">◆ {whyNot(view)}</chakra.span>
        {view.key.length === 0 && !asking && (
          <QuietButton type="button" onClick={() => setAsking(true)}>
            Name a key
          </QuietButton>
        )}
      </Flex>
      {asking && (
        <Box color="chalk" marginTop="10px">
          <KeyForm view={view} onEdit={onEdit} onDone={() => setAsking(false)} />
        </Box>
      )}
    </Section>
  );
}

/** The fields that tell all rows apart. The service looks whether they do. */
function KeyForm({ view, onEdit, onDone }: PartProps & { onDone: () => void }) {
  const [key, setKey] = useState(view.key);
  const fields = view.columns.map((c) => c.field).filter(Boolean);
  const path = ['resources', view.resource, 'key'];
  return (
    <>
      <Box marginBottom="6px">Which fields tell all rows apart? Whether they do is checked against the rows.</Box>
      <Flex wrap="wrap" gap="4px 16px" marginBottom="10px">
        {fields.map((f) => (
          <chakra.label key={f} display="flex" gap="6px" alignItems="baseline">
            <Tick
              name={`key ${f}`}
              checked={key.includes(f)}
              onChange={() => setKey(key.includes(f) ? key.filter((k) => k !== f) : [...key, f])}
            />
            <Mono>{f}</Mono>
          </chakra.label>
        ))}
      </Flex>
      <Flex gap="8px">
        <MainButton
          type="button"
          disabled={key.length === 0}
          onClick={() => {
            onEdit([{ at: path, value: key }]);
            onDone();
          }}
        >
          Set key
        </MainButton>
        <QuietButton
          type="button"
          onClick={() => {
            onEdit([{ at: path }]);
            onDone();
          }}
        >
          The table’s own
        </QuietButton>
      </Flex>
    </>
  );
}

function Columns({ view, onEdit }: PartProps) {
  const at = (column: string, part: string) => ['resources', view.resource, 'fields', column, part];
  const text = (column: string, part: string, next: string, is: string) => {
    if (next !== is) onEdit([next ? { at: at(column, part), value: next } : { at: at(column, part) }]);
  };
  return (
    <Table>
      <thead>
        <tr>
          <Th>Column</Th>
          <Th paddingX="10px">Type</Th>
          <Th paddingX="10px">In the API as</Th>
          <Th paddingX="10px">What callers see</Th>
          <Th paddingX="10px">Note</Th>
        </tr>
      </thead>
      <tbody>
        {view.columns.map((c) => (
          <tr key={c.name}>
            <Td paddingX="16px">
              <chakra.label display="flex" gap="8px" alignItems="center" whiteSpace="nowrap">
                <Tick
                  aria-label={`${c.name} in the API`}
                  checked={c.field !== ''}
                  onChange={() =>
                    onEdit([c.field ? { at: at(c.name, 'expose'), value: false } : { at: at(c.name, 'expose') }])
                  }
                />
                <Mono color={c.field ? 'chalk' : 'muted'}>{c.name}</Mono>
              </chakra.label>
            </Td>
            <Td paddingX="10px" color="muted">
              {c.type}
              {!c.not_null && !c.field && ', null'}
            </Td>
            <Td paddingX="10px">
              {c.field ? (
                <Inline
                  label={`Name of ${c.name}`}
                  mono
                  value={c.field}
                  onDone={(next) => text(c.name, 'name', next === c.name ? '' : next, c.field)}
                />
              ) : (
                <chakra.span color="muted">not shown</chakra.span>
              )}
            </Td>
            <Td paddingX="10px" color="muted">
              {c.seen}
            </Td>
            <Td paddingX="10px" color="muted" overflowWrap="anywhere">
              {c.field ? (
                <>
                  {c.note && `${c.note} `}
                  <Inline
                    label={`What ${c.name} is`}
                    value={c.about}
                    empty="+"
                    onDone={(next) => text(c.name, 'about', next, c.about)}
                  />
                </>
              ) : (
                c.about
              )}
            </Td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

/** A text that becomes an entry where it is clicked on. Enter and leaving it keep what was typed, Escape does not. */
function Inline({
  label,
  value,
  mono,
  empty = '',
  onDone,
}: {
  label: string;
  value: string;
  mono?: boolean;
  empty?: string;
  onDone: (next: string) => void;
}) {
  const [typed, setTyped] = useState<string | null>(null);
  const id = useId();
  const font = mono ? 'mono' : 'body';
  if (typed === null)
    return (
      <>
        <span hidden id={id}>
          {label}:
        </span>
        <chakra.button
          type="button"
          aria-labelledby={`${id} ${id}-says`}
          fontFamily={font}
          fontSize={mono ? '12.5px' : '13px'}
          textAlign="left"
          cursor="text"
          _hover={{ bg: 'sel' }}
          onClick={() => setTyped(value)}
        >
          <span id={`${id}-says`}>{value || empty}</span>
        </chakra.button>
      </>
    );
  const done = () => {
    setTyped(null);
    onDone(typed.trim());
  };
  return (
    <Entry
      autoFocus
      aria-label={label}
      height="22px"
      paddingX="4px"
      margin="-2px 0 -2px -5px"
      fontFamily={font}
      fontSize={mono ? '12.5px' : '13px'}
      value={typed}
      onChange={(e) => setTyped(e.target.value)}
      onBlur={done}
      onKeyDown={(e) => {
        if (e.key === 'Enter') done();
        if (e.key === 'Escape') setTyped(null);
      }}
    />
  );
}

function Relations({ window, view }: { window: string; view: TableView }) {
  if (view.relations.length === 0) return null;
  return (
    <>
      <PaneHead note={`${String(view.relations.length)}, inferred from foreign keys or named in the document`}>
        Relations
      </PaneHead>
      <Table>
        <tbody>
          {view.relations.map((r) => (
            <tr key={r.name}>
              <Td width="30%">
                <Mono>{r.name}</Mono>
              </Td>
              <Td color="muted">
                {r.many ? 'many of ' : r.required ? 'one of ' : 'one or none of '}
                <Link href={`/map/${window}?resource=${encodeURIComponent(r.to)}`}>
                  <Mono color="code">{r.to}</Mono>
                </Link>
                {r.through && (
                  <>
                    , through <Mono>{r.through}</Mono>
                  </>
                )}
              </Td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

function NotShown({ view, onEdit }: PartProps) {
  return (
    <>
      <Section fontSize="19px" lineHeight="1.7" color="muted">
        <Mono color="chalk">{view.table}</Mono> is not in the API.
        <Box fontSize="14px" marginTop="4px">
          {view.about}
        </Box>
        <MainButton type="button" fontSize="14px" marginTop="10px" onClick={() => onEdit([{ show: view.table }])}>
          Show it
        </MainButton>
      </Section>
      <Table>
        <thead>
          <tr>
            <Th>Column</Th>
            <Th>Type</Th>
            <Th>What it is</Th>
          </tr>
        </thead>
        <tbody>
          {view.columns.map((c) => (
            <tr key={c.name}>
              <Td>
                <Mono>{c.name}</Mono>
              </Td>
              <Td color="muted">
                {c.type}
                {!c.not_null && ', null'}
              </Td>
              <Td color="muted">{c.about}</Td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}
