import type { Model, Resource } from '../../api/hooks';

/** One condition of the sentence: a field, an operator, a literal as the query language writes it. */
export interface Condition {
  field: string;
  operator: string;
  literal: string;
}

export interface Expand {
  relation: string;
  options: string;
}

/** What is added up of the rows of a group: a field with a method, or $count. */
export interface Aggregate {
  field: string;
  method: string;
  name: string;
}

/** Rows put together by fields. */
export interface Grouping {
  by: string[];
  aggregates: Aggregate[];
}

/** A request as the sentence says it. What the sentence can't draw stays as text: a filter that is more than conditions joined by "and",
 * other ways to apply, and options that it does not know. */
export interface Sentence {
  resource: string;
  parameters: Record<string, string>;
  expand: Expand[];
  search: string;
  conditions: Condition[];
  filter: string;
  grouping: Grouping | null;
  apply: string;
  compute: string;
  order: { field: string; desc: boolean }[];
  select: string[];
  top: number | null;
  skip: number;
  count: boolean;
  /** Other options, as they are. */
  rest: string[];
}

export const words: Record<string, string> = {
  eq: 'is',
  ne: 'is not',
  gt: 'is over',
  ge: 'is at least',
  lt: 'is under',
  le: 'is at most',
  in: 'is one of',
  contains: 'contains',
  startswith: 'begins with',
  endswith: 'ends with',
};

/** The word between a condition's field and its value. Of moments people say before and after. */
export function wordOf({ operator, literal }: Condition): string {
  const moment = /^\d{4}-\d\d-\d\d/.test(literal);
  if (moment && operator === 'lt') return 'is before';
  if (moment && operator === 'gt') return 'is after';
  return words[operator] ?? operator;
}

const textual = ['contains', 'startswith', 'endswith'];

/** Operators that a kind of field takes. */
export function operatorsFor(kind: string): string[] {
  if (['boolean', 'uuid'].includes(kind)) return ['eq', 'ne'];
  if (kind === 'enum') return ['eq', 'ne', 'in'];
  if (kind === 'string') return ['eq', 'ne', 'in', ...textual];
  return ['eq', 'ne', 'gt', 'ge', 'lt', 'le', 'in'];
}

/** Kinds that conditions can compare. */
export const comparable = ['string', 'enum', 'boolean', 'integer', 'number', 'date', 'timestamp', 'time', 'uuid'];

/** The literal of what somebody typed, by the field's kind. A list is parted by commas. */
export function literalOf(kind: string, typed: string, operator = 'eq'): string {
  if (operator === 'in')
    return `(${typed
      .split(',')
      .map((t) => literalOf(kind, t.trim()))
      .join(',')})`;
  if (typed === 'null' || !['string', 'enum'].includes(kind)) return typed;
  return `'${typed.replaceAll("'", "''")}'`;
}

/** What a literal says, without its quotes. */
export function typedOf(literal: string): string {
  if (literal.startsWith('('))
    return cut(literal.slice(1, -1), ',')
      .map((l) => typedOf(l.trim()))
      .join(', ');
  return literal.startsWith("'") ? literal.slice(1, -1).replaceAll("''", "'") : literal;
}

/** What a literal says to people: a day where a moment is midnight. */
export function spoken(literal: string): string {
  const day = /^(\d{4}-\d\d-\d\d)(T00:00(:00)?Z)?$/.exec(literal)?.[1];
  if (!day) return typedOf(literal);
  return new Date(day).toLocaleDateString('en-GB', {
    day: 'numeric',
    month: 'short',
    year: 'numeric',
    timeZone: 'UTC',
  });
}

/** Cuts text at a separator that is outside brackets and quotes. */
export function cut(text: string, separator: string): string[] {
  const parts: string[] = [];
  let depth = 0;
  let quoted = false;
  let start = 0;
  for (let i = 0; i < text.length; i++) {
    const c = text[i];
    if (c === "'") quoted = !quoted;
    else if (!quoted && c === '(') depth++;
    else if (!quoted && c === ')') depth--;
    if (!quoted && depth === 0 && text.startsWith(separator, i)) {
      parts.push(text.slice(start, i));
      i += separator.length - 1;
      start = i + 1;
    }
  }
  parts.push(text.slice(start));
  return parts;
}

const literal = String.raw`'(?:[^']|'')*'|[\w.:+-]+`;
const comparison = new RegExp(String.raw`^([\w/]+) (eq|ne|gt|ge|lt|le) (${literal})$`);
const listing = new RegExp(String.raw`^([\w/]+) in (\((?:${literal})(?:\s*,\s*(?:${literal}))*\))$`);
const calling = new RegExp(String.raw`^(contains|startswith|endswith)\(([\w/]+),\s*('(?:[^']|'')*')\)$`);

function condition(text: string): Condition | null {
  const t = text.trim();
  const c = comparison.exec(t);
  if (c) return { field: c[1] ?? '', operator: c[2] ?? '', literal: c[3] ?? '' };
  const l = listing.exec(t);
  if (l) return { field: l[1] ?? '', operator: 'in', literal: l[2] ?? '' };
  const f = calling.exec(t);
  if (f) return { field: f[2] ?? '', operator: f[1] ?? '', literal: f[3] ?? '' };
  return null;
}

function written(c: Condition): string {
  return textual.includes(c.operator)
    ? `${c.operator}(${c.field},${c.literal})`
    : `${c.field} ${c.operator} ${c.literal}`;
}

/** How fields are added up. */
export const methods = ['sum', 'average', 'min', 'max', 'countdistinct'];

const grouped = /^groupby\(\(([\w/,\s]+)\)(?:,\s*aggregate\((.*)\))?\)$/;
const summed = /^([\w/]+) with (sum|average|min|max|countdistinct) as (\w+)$/;

/** Reads groupby((a,b),aggregate(c with sum as d)); null where it is anything else. */
function grouping(text: string): Grouping | null {
  const alone = /^aggregate\((.*)\)$/.exec(text.trim());
  const g = grouped.exec(text.trim());
  if (!g && !alone) return null;
  const list = g ? g[2] : alone?.[1];
  const aggregates: Aggregate[] = [];
  for (const part of list === undefined ? [] : cut(list, ',')) {
    const t = part.trim();
    const counting = /^\$count as (\w+)$/.exec(t);
    const s = summed.exec(t);
    if (counting) aggregates.push({ field: '$count', method: '', name: counting[1] ?? '' });
    else if (s) aggregates.push({ field: s[1] ?? '', method: s[2] ?? '', name: s[3] ?? '' });
    else return null;
  }
  return {
    by: (g?.[1] ?? '')
      .split(',')
      .map((f) => f.trim())
      .filter(Boolean),
    aggregates,
  };
}

function groupingText({ by, aggregates }: Grouping): string {
  const sums = aggregates.map((a) =>
    a.field === '$count' ? `$count as ${a.name}` : `${a.field} with ${a.method} as ${a.name}`,
  );
  const all = `aggregate(${sums.join(',')})`;
  if (by.length === 0) return all;
  return `groupby((${by.join(',')})${sums.length > 0 ? `,${all}` : ''})`;
}

/** Reads a list of fields, each with desc after it for the last first; null where a term is more than a field. */
function orderOf(value: string): Sentence['order'] | null {
  const order: Sentence['order'] = [];
  for (const term of cut(value, ',')) {
    const t = /^([\w/@.]+)(?:\s+(asc|desc))?$/i.exec(term.trim());
    if (!t) return null;
    order.push({ field: t[1] ?? '', desc: t[2]?.toLowerCase() === 'desc' });
  }
  return order;
}

/** Reads `/port_calls?filter=…` into a sentence. Parameters are those that the resource's query has. */
export function parse(address: string, parameters: string[] = []): Sentence {
  const [path = '', ...query] = cut(address.trim().replace(/^\//, ''), '?');
  const s: Sentence = {
    resource: path,
    parameters: {},
    expand: [],
    search: '',
    conditions: [],
    filter: '',
    grouping: null,
    apply: '',
    compute: '',
    order: [],
    select: [],
    top: null,
    skip: 0,
    count: false,
    rest: [],
  };
  for (const pair of cut(query.join('?'), '&')) {
    const at = pair.indexOf('=');
    const value = pair.slice(at + 1);
    if (pair.trim() === '') continue;
    if (at < 0 || !take(s, pair.slice(0, at), value, parameters)) s.rest.push(pair);
  }
  return s;
}

/** Takes one option into the sentence; false where it stays as text. */
function take(s: Sentence, name: string, value: string, parameters: string[]): boolean {
  if (parameters.includes(name)) {
    s.parameters[name] = value;
    return true;
  }
  switch (name.replace(/^\$/, '').toLowerCase()) {
    case 'filter': {
      const list = cut(value, ' and ').map(condition);
      if (list.every((c) => c !== null)) s.conditions = list;
      else s.filter = value;
      return true;
    }
    case 'orderby': {
      const order = orderOf(value);
      if (order) s.order = order;
      return order !== null;
    }
    case 'select':
      s.select = cut(value, ',').map((f) => f.trim());
      return true;
    case 'expand':
      s.expand = cut(value, ',').map((e) => {
        const open = e.indexOf('(');
        return open < 0
          ? { relation: e.trim(), options: '' }
          : { relation: e.slice(0, open).trim(), options: e.slice(open + 1, -1) };
      });
      return true;
    case 'search':
      s.search = value;
      return true;
    case 'compute':
      s.compute = value;
      return true;
    case 'apply':
      s.grouping = grouping(value);
      if (!s.grouping) s.apply = value;
      return true;
    case 'top':
      if (!/^\d+$/.test(value)) return false;
      s.top = Number(value);
      return true;
    case 'skip':
      if (!/^\d+$/.test(value)) return false;
      s.skip = Number(value);
      return true;
    case 'count':
      s.count = value === 'true';
      return value === 'true' || value === 'false';
  }
  return false;
}

/** Writes a sentence as path and query, as people read it: nothing percent-encoded. */
export function print(s: Sentence): string {
  const options = Object.entries(s.parameters).map(([name, value]) => `${name}=${value}`);
  const add = (name: string, value: string) => {
    if (value !== '') options.push(`${name}=${value}`);
  };
  add('apply', s.apply || (s.grouping ? groupingText(s.grouping) : ''));
  add('compute', s.compute);
  add('select', s.select.join(','));
  add('expand', s.expand.map((e) => (e.options ? `${e.relation}(${e.options})` : e.relation)).join(','));
  add('search', s.search);
  add('filter', s.filter || s.conditions.map(written).join(' and '));
  add('orderby', s.order.map((o) => (o.desc ? `${o.field} desc` : o.field)).join(','));
  add('skip', s.skip > 0 ? String(s.skip) : '');
  add('top', s.top === null ? '' : String(s.top));
  if (s.count) options.push('count=true');
  options.push(...s.rest);
  return `/${s.resource}${options.length > 0 ? `?${options.join('&')}` : ''}`;
}

/** Where a path leads: the resource at its end, and whether it is one row of it. */
export function target(model: Model, path: string): { resource: Resource; single: boolean } | null {
  const [first = '', ...others] = path.split('/').filter(Boolean);
  let resource = model.resources.find((r) => r.name === first.replace(/\(.*\)$/, ''));
  let single = first.endsWith(')');
  let keys = 0;
  for (const segment of others) {
    const relation = keys === 0 && !single ? undefined : resource?.relations.find((r) => r.name === segment);
    if (relation) {
      resource = model.resources.find((r) => r.name === relation.to);
      [single, keys] = [!relation.many, 0];
    } else {
      if (segment.startsWith('$') || single) return null;
      single = ++keys >= (resource?.key.length ?? 1);
    }
  }
  return resource && (keys === 0 || single) ? { resource, single } : null;
}

/** The first sentence over a window: the resource that most others lead to. */
export function opening(model: Model): Sentence {
  const links = new Map<string, number>();
  for (const r of model.resources) for (const rel of r.relations) links.set(rel.to, (links.get(rel.to) ?? 0) + 1);
  const resource = [...links.entries()].sort((a, b) => b[1] - a[1])[0]?.[0] ?? model.resources[0]?.name ?? '';
  return parse(`/${resource}?top=20&count=true`);
}

/** Encodes what a browser would misread in a typed address. */
export function encoded(address: string): string {
  return encodeURI(address).replaceAll('+', '%2B').replaceAll('#', '%23');
}
