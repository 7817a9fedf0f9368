import { Box, chakra, Flex } from '@chakra-ui/react';
import { useRef } from 'react';

import type { Sketch, SketchEdit } from '../../api/hooks';
import { count } from '../../look/format';
import { Entry, Mono, PaneHead, Tick } from '../../look/parts';
import { useAddress } from '../../look/useAddress';
import { useRows } from '../../look/useRows';

type TableEntry = Sketch['tables'][number];

interface SchemaTreeProps {
  tables: TableEntry[];
  chosen: string;
  busy: boolean;
  onChoose: (table: string) => void;
  onEdit: (edits: SketchEdit[]) => void;
}

type Line = { schema: string; tables: TableEntry[] } | TableEntry;

const schemaOf = (t: TableEntry) => t.table.slice(0, t.table.indexOf('.'));
const nameOf = (t: TableEntry) => t.table.slice(t.table.indexOf('.') + 1);

/** The tables of the database by schema: which are in the API. A schema's box shows or hides all of its tables that are found. */
export function SchemaTree({ tables, chosen, busy, onChoose, onEdit }: SchemaTreeProps) {
  const [search, change] = useAddress();
  const typed = search.get('find') ?? '';
  const scroller = useRef<HTMLDivElement>(null);
  const found = tables.filter((t) => `${t.table} ${t.resource}`.toLowerCase().includes(typed.trim().toLowerCase()));
  const schemas = [...new Set(found.map(schemaOf))];
  const lines: Line[] = schemas.flatMap((schema) => {
    const inIt = found.filter((t) => schemaOf(t) === schema);
    return [{ schema, tables: inIt }, ...inIt];
  });
  const { rows, before, after } = useRows(lines.length, scroller, 31);
  const shown = tables.filter((t) => t.resource).length;
  return (
    <Flex direction="column" height="100%" data-part="tree">
      <PaneHead note={`${count(shown)} of ${count(tables.length)} in the API`}>Tables</PaneHead>
      <Box padding="8px 14px" borderBottomWidth="1px">
        <Entry
          aria-label="Find a table"
          placeholder="Find …"
          height="28px"
          value={typed}
          onChange={(e) => change({ find: e.target.value })}
        />
      </Box>
      <Box ref={scroller} flex="1" minHeight="0" overflow="auto" fontSize="13px">
        <chakra.ul listStyleType="none" padding="0" margin="0">
          {before > 0 && <chakra.li height={`${String(before)}px`} />}
          {rows.map((i) => {
            const line = lines[i];
            if (!line) return null;
            return 'schema' in line ? (
              <SchemaLine key={line.schema} schema={line.schema} tables={line.tables} busy={busy} onEdit={onEdit} />
            ) : (
              <TableLine
                key={line.table}
                table={line}
                chosen={chosen === line.table}
                busy={busy}
                onChoose={onChoose}
                onEdit={onEdit}
              />
            );
          })}
          {after > 0 && <chakra.li height={`${String(after)}px`} />}
        </chakra.ul>
        {found.length === 0 && (
          <Box padding="12px 14px" color="muted">
            {tables.length === 0 ? 'The database has no tables.' : 'No table is named so.'}
          </Box>
        )}
      </Box>
    </Flex>
  );
}

const ListLine = chakra('li', {
  base: {
    display: 'flex',
    alignItems: 'center',
    gap: '8px',
    height: '31px',
    paddingX: '14px',
    borderBottomWidth: '1px',
  },
});

interface SchemaLineProps {
  schema: string;
  tables: TableEntry[];
  busy: boolean;
  onEdit: (edits: SketchEdit[]) => void;
}

function SchemaLine({ schema, tables, busy, onEdit }: SchemaLineProps) {
  const shown = tables.filter((t) => t.resource).length;
  const all = shown === tables.length;
  return (
    <ListLine bg="raised">
      <Tick
        aria-label={all ? `Hide all of ${schema}` : `Show all of ${schema}`}
        disabled={busy}
        checked={all}
        ref={(e: HTMLInputElement | null) => {
          if (e) e.indeterminate = shown > 0 && !all;
        }}
        onChange={() =>
          onEdit(tables.filter((t) => !!t.resource === all).map((t) => (all ? { hide: t.table } : { show: t.table })))
        }
      />
      <Mono flex="1" fontWeight="600">
        {schema}
      </Mono>
      <chakra.span color="muted">
        {count(shown)} of {count(tables.length)}
      </chakra.span>
    </ListLine>
  );
}

interface TableLineProps {
  table: TableEntry;
  chosen: boolean;
  busy: boolean;
  onChoose: (table: string) => void;
  onEdit: (edits: SketchEdit[]) => void;
}

function TableLine({ table: t, chosen, busy, onChoose, onEdit }: TableLineProps) {
  return (
    <ListLine bg={chosen ? 'sel' : undefined}>
      <Tick
        aria-label={`${t.table} in the API`}
        disabled={busy}
        checked={t.resource !== ''}
        onChange={() => onEdit([t.resource ? { hide: t.table } : { show: t.table }])}
      />
      <chakra.button
        type="button"
        display="flex"
        alignItems="center"
        flex="1"
        minWidth="0"
        cursor="pointer"
        aria-pressed={chosen}
        title={t.resource ? `/${t.resource}` : 'not in the API'}
        onClick={() => onChoose(t.table)}
      >
        <Mono
          flex="1"
          textAlign="left"
          color={t.resource ? 'chalk' : 'muted'}
          overflow="hidden"
          textOverflow="ellipsis"
          whiteSpace="nowrap"
        >
          {nameOf(t)}
        </Mono>
        <chakra.span color={chosen ? 'chalk' : 'muted'} paddingLeft="6px" whiteSpace="nowrap">
          {t.kind.includes('view') ? 'view' : t.rows >= 0 ? count(t.rows) : ''}
        </chakra.span>
      </chakra.button>
    </ListLine>
  );
}
