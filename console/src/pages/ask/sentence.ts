import type { Model } from '../../api/service';

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

/** A request as the sentence says it. A filter that is more than conditions joined by "and" stays text. */
export interface Sentence {
  resource: string;
  expand: Expand[];
  conditions: Condition[];
  filter: string;
  order: { field: string; desc: boolean }[];
  select: string[];
  top: number;
  count: boolean;
}

/** Who the request is sent as; the role "" is the operator. */
export interface Speaker {
  role: string;
  claims: Record<string, string>;
}

export const words: Record<string, string> = {
  eq: 'is',
  ne: 'is not',
  gt: 'is over',
  ge: 'is at least',
  lt: 'is under',
  le: 'is at most',
  contains: 'contains',
};

/** The word between a condition's field and its value. Of moments people say before and after. */
export function wordOf({ operator, literal }: Condition): string {
  const moment = /^\d{4}-\d\d-\d\d/.test(literal);
  if (moment && operator === 'lt') return 'is before';
  if (moment && operator === 'gt') return 'is after';
  return words[operator] ?? operator;
}

/** Operators that a kind of field takes. */
export function operatorsFor(kind: string): string[] {
  if (['boolean', 'enum', 'uuid'].includes(kind)) return ['eq', 'ne'];
  if (kind === 'string') return ['eq', 'ne', 'contains'];
  return ['eq', 'ne', 'gt', 'ge', 'lt', 'le'];
}

/** Kinds that conditions can compare. */
export const comparable = ['string', 'enum', 'boolean', 'integer', 'number', 'date', 'timestamp', 'time', 'uuid'];

/** The literal of what somebody typed, by the field's kind. */
export function literalOf(kind: string, typed: string): string {
  if (typed === 'null' || !['string', 'enum'].includes(kind)) return typed;
  return `'${typed.replaceAll("'", "''")}'`;
}

/** What stands between the quotes of a literal. */
export function typedOf(literal: string): string {
  return literal.startsWith("'") ? literal.slice(1, -1).replaceAll("''", "'") : literal;
}

/** Cuts text at a separator that stands outside brackets and quotes. */
function cut(text: string, separator: string): string[] {
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

const comparison = /^([\w/]+) (eq|ne|gt|ge|lt|le) ('(?:[^']|'')*'|[\w.:+-]+)$/;
const containing = /^contains\(([\w/]+),\s*('(?:[^']|'')*')\)$/;

function condition(text: string): Condition | null {
  const t = text.trim();
  const c = comparison.exec(t);
  if (c) return { field: c[1] ?? '', operator: c[2] ?? '', literal: c[3] ?? '' };
  const s = containing.exec(t);
  if (s) return { field: s[1] ?? '', operator: 'contains', literal: s[2] ?? '' };
  return null;
}

function written(c: Condition): string {
  return c.operator === 'contains' ? `contains(${c.field},${c.literal})` : `${c.field} ${c.operator} ${c.literal}`;
}

/** Reads `/port_calls?filter=…` into a sentence. */
export function parse(address: string): Sentence {
  const [path = '', query = ''] = cut(address.trim().replace(/^\//, ''), '?');
  const s: Sentence = {
    resource: path,
    expand: [],
    conditions: [],
    filter: '',
    order: [],
    select: [],
    top: 20,
    count: false,
  };
  for (const pair of cut(query, '&')) {
    const at = pair.indexOf('=');
    if (at < 0) continue;
    const value = pair.slice(at + 1);
    switch (pair.slice(0, at).replace(/^\$/, '').toLowerCase()) {
      case 'filter': {
        const list = cut(value, ' and ').map(condition);
        if (list.every((c) => c !== null)) s.conditions = list;
        else s.filter = value;
        break;
      }
      case 'orderby':
        s.order = cut(value, ',').map((term) => {
          const [field = '', direction = ''] = term.trim().split(/\s+/);
          return { field, desc: direction.toLowerCase() === 'desc' };
        });
        break;
      case 'select':
        s.select = cut(value, ',').map((f) => f.trim());
        break;
      case 'expand':
        s.expand = cut(value, ',').map((e) => {
          const open = e.indexOf('(');
          return open < 0
            ? { relation: e.trim(), options: '' }
            : { relation: e.slice(0, open).trim(), options: e.slice(open + 1, -1) };
        });
        break;
      case 'top':
        s.top = Number(value) || 0;
        break;
      case 'count':
        s.count = value === 'true';
        break;
    }
  }
  return s;
}

/** Writes a sentence as path and query, as people read it: nothing percent-encoded. */
export function print(s: Sentence): string {
  const options: string[] = [];
  const filter = s.filter || s.conditions.map(written).join(' and ');
  if (s.select.length > 0) options.push(`select=${s.select.join(',')}`);
  if (s.expand.length > 0)
    options.push(`expand=${s.expand.map((e) => (e.options ? `${e.relation}(${e.options})` : e.relation)).join(',')}`);
  if (filter) options.push(`filter=${filter}`);
  if (s.order.length > 0)
    options.push(`orderby=${s.order.map((o) => (o.desc ? `${o.field} desc` : o.field)).join(',')}`);
  options.push(`top=${String(s.top)}`);
  if (s.count) options.push('count=true');
  return `/${s.resource}?${options.join('&')}`;
}

/** The first sentence over a window: the resource that most others lead to. */
export function opening(model: Model): Sentence {
  const links = new Map<string, number>();
  for (const r of model.resources) for (const rel of r.relations) links.set(rel.to, (links.get(rel.to) ?? 0) + 1);
  const resource = [...links.entries()].sort((a, b) => b[1] - a[1])[0]?.[0] ?? model.resources[0]?.name ?? '';
  return parse(`/${resource}?top=20&count=true`);
}

/** The Act-As header of a speaker (RFC 9651), or nothing for the operator. */
export function actAs({ role, claims }: Speaker): string | undefined {
  if (!role) return undefined;
  const values = Object.entries(claims).map(
    ([name, v]) => `;${name}=${/^-?\d{1,15}$/.test(v) ? v : JSON.stringify(v)}`,
  );
  return role + values.join('');
}

/** Encodes what a browser would misread in a typed address. */
export function encoded(address: string): string {
  return encodeURI(address).replaceAll('+', '%2B').replaceAll('#', '%23');
}
