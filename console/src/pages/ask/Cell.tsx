import { chakra } from '@chakra-ui/react';

import { utc } from '../../look/format';
import type { Json, Row } from './useAnswer';

const instant = /^\d{4}-\d\d-\d\dT\d\d:\d\d[\d:.]*(Z|[+-]\d\d:\d\d)$/;

/** A value in a cell: moments in the reader's time, rows by what tells them apart. */
export function Cell({ value }: { value: Json | undefined }) {
  if (value === null || value === undefined || (Array.isArray(value) && value.length === 0))
    return <chakra.span color="faint">none</chakra.span>;
  if (typeof value === 'string' && instant.test(value))
    return (
      <time dateTime={value} title={utc(value)}>
        {moment(value)}
      </time>
    );
  const text = shown(value);
  return <span title={text}>{text}</span>;
}

const moment = (value: string) =>
  new Date(value).toLocaleString('en-GB', {
    day: 'numeric',
    month: 'short',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
    ...(/:(?!00)\d\d(\.\d+)?(Z|[+-])/.test(value) ? { second: '2-digit' } : {}),
  });

function shown(value: Json): string {
  if (typeof value === 'string') return instant.test(value) ? moment(value) : value;
  if (Array.isArray(value)) return value.map(shown).join(', ');
  if (typeof value === 'object' && value !== null) return named(value);
  return String(value);
}

/** A row within a row: its name with what else is short, or its first values. */
function named(row: Row): string {
  const own = Object.entries(row).filter(([name, v]) => v !== null && !name.includes('@'));
  const name = own.find(([n]) => n === 'name');
  const list = name
    ? [name, ...own.filter((e) => e !== name && String(e[1]).length <= 3 && typeof e[1] === 'string')]
    : own;
  return list
    .slice(0, 4)
    .map(([, v]) => shown(v))
    .join(' ');
}
