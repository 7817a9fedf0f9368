/** A node of the database's plan, as it tells it. */
interface Node {
  'Node Type': string;
  'Relation Name'?: string;
  'Index Name'?: string;
  'Join Type'?: string;
  'Sort Key'?: string[];
  Filter?: string;
  'Index Cond'?: string;
  'Actual Rows'?: number;
  'Actual Loops'?: number;
  'Plan Rows': number;
  'Actual Total Time'?: number;
  'Total Cost': number;
  'Rows Removed by Filter'?: number;
  Plans?: Node[];
}

/** How the database answers a request. */
export interface Explanation {
  sql: string;
  /** The parts of it that row rules add. */
  rules: string[];
  arguments: unknown[];
  took_ms: number;
  advice: { message: string }[];
  plan: [{ Plan: Node }];
}

export interface PlanLine {
  depth: number;
  says: string;
  detail: string;
  /** Of the time of the whole, without what is below it; from 0 to 1. */
  share: number;
  /** That it handed on, in all of its loops. */
  rows: number;
}

/** The plan as lines, the outermost first. */
export function lines([{ Plan: top }]: Explanation['plan']): PlanLine[] {
  const whole = Math.max(spent(top), 1e-9);
  const out: PlanLine[] = [];
  const walk = (n: Node, depth: number) => {
    const below = (n.Plans ?? []).reduce((sum, p) => sum + spent(p), 0);
    out.push({
      depth,
      says: says(n),
      detail: [n['Index Cond'], n.Filter].filter(Boolean).join(' and '),
      share: Math.min(1, Math.max(0, (spent(n) - below) / whole)),
      rows: Math.round((n['Actual Rows'] ?? n['Plan Rows']) * (n['Actual Loops'] ?? 1)),
    });
    for (const p of n.Plans ?? []) walk(p, depth + 1);
  };
  walk(top, 0);
  return out;
}

/** The time that a node and all below it took; its cost where it was not run. */
const spent = (n: Node) =>
  n['Actual Total Time'] === undefined ? n['Total Cost'] : n['Actual Total Time'] * (n['Actual Loops'] ?? 1);

/** A node in words. */
function says(n: Node): string {
  const table = n['Relation Name'] ?? '';
  const order = (n['Sort Key'] ?? []).map((k) => k.replace(/^\w+\./, '').toLowerCase()).join(', ');
  switch (n['Node Type']) {
    case 'Seq Scan':
      return `all of ${table}`;
    case 'Index Scan':
    case 'Index Only Scan':
      return `${table} by ${n['Index Name'] ?? 'an index'}`;
    case 'Bitmap Heap Scan':
      return `${table} by a bitmap`;
    case 'Bitmap Index Scan':
      return `bitmap of ${n['Index Name'] ?? 'an index'}`;
    case 'Sort':
    case 'Incremental Sort':
      return `sort by ${order}`;
    case 'Nested Loop':
      return 'join, row by row';
    case 'Hash Join':
      return 'join by hash';
    case 'Merge Join':
      return 'join in order';
    case 'Limit':
      return 'the first ones';
    case 'Aggregate':
      return 'put together';
    default:
      return n['Node Type'].toLowerCase();
  }
}

/** A statement in pieces: those that row rules add, and what is between them. */
export function marked(sql: string, rules: string[]): { text: string; rule: boolean }[] {
  let pieces = [{ text: sql, rule: false }];
  for (const rule of rules)
    pieces = pieces.flatMap((p) =>
      p.rule
        ? [p]
        : p.text
            .split(rule)
            .flatMap((text, i) => [...(i > 0 ? [{ text: rule, rule: true }] : []), { text, rule: false }]),
    );
  return pieces.filter((p) => p.text !== '');
}
