/** The parts of an OpenAPI document that are read here. */
export interface Schema {
  $ref?: string;
  type?: string | string[];
  format?: string;
  enum?: (string | null)[];
  description?: string;
  items?: Schema;
  anyOf?: Schema[];
  allOf?: Schema[];
  properties?: Record<string, Schema>;
  required?: string[];
  readOnly?: boolean;
  minimum?: number;
  exclusiveMinimum?: number;
  maxLength?: number;
  examples?: unknown[];
}

interface Ref {
  $ref?: string;
}

export interface Parameter extends Ref {
  name: string;
  in: string;
  description?: string;
  required?: boolean;
  schema?: Schema;
}

interface Media {
  schema?: Schema;
  example?: unknown;
}

export interface Answer extends Ref {
  description?: string;
  content?: Record<string, Media>;
}

interface Item {
  operationId?: string;
  summary?: string;
  description?: string;
  deprecated?: boolean;
  tags?: string[];
  parameters?: Parameter[];
  requestBody?: { content?: Record<string, Media> };
  responses?: Record<string, Answer>;
}

export interface Document {
  info: { title: string; version: string; description?: string };
  tags?: { name: string; description?: string }[];
  paths: Record<string, Record<string, Item> & { parameters?: Parameter[] }>;
  components?: Record<string, Record<string, unknown>>;
}

export interface Operation {
  id: string;
  method: string;
  path: string;
  summary: string;
  description: string;
  deprecated: boolean;
  tag: string;
  parameters: Parameter[];
  body: Media | undefined;
  answers: [string, Answer][];
}

/** What a reference leads to. */
export function resolved<T extends Ref>(doc: Document, of: T): T {
  if (!of.$ref) return of;
  const [kind = '', name = ''] = of.$ref.replace('#/components/', '').split('/');
  return (doc.components?.[kind]?.[name.replaceAll('~1', '/').replaceAll('~0', '~')] as T | undefined) ?? of;
}

const methods = ['get', 'query', 'post', 'put', 'patch', 'delete'];

/** The operations by the part of the API that they belong to, in the order of the document. */
export function operations(doc: Document): Map<string, Operation[]> {
  const by = new Map<string, Operation[]>((doc.tags ?? []).map((t) => [t.name, []]));
  for (const [path, items] of Object.entries(doc.paths))
    for (const method of methods) {
      const item = items[method];
      if (!item) continue;
      const tag = item.tags?.[0] ?? 'window';
      const [media] = Object.values(item.requestBody?.content ?? {});
      by.set(tag, [
        ...(by.get(tag) ?? []),
        {
          id: item.operationId ?? `${method} ${path}`,
          method: method.toUpperCase(),
          path,
          summary: item.summary ?? '',
          description: item.description ?? '',
          deprecated: item.deprecated ?? false,
          tag,
          parameters: [...((items.parameters as Parameter[] | undefined) ?? []), ...(item.parameters ?? [])].map((p) =>
            resolved(doc, p),
          ),
          body: media,
          answers: Object.entries(item.responses ?? {}).map(([status, a]) => [status, resolved(doc, a)]),
        },
      ]);
    }
  return new Map([...by].filter(([, list]) => list.length > 0));
}

/** The fields of a schema, also where it is one of several or a page of rows. */
export function fieldsOf(doc: Document, of: Schema | undefined): { schema: Schema; rows: boolean } | null {
  if (!of) return null;
  const schema = resolved(doc, of);
  const rows = schema.properties?.value;
  if (rows?.items) return { schema: resolved(doc, rows.items), rows: true };
  for (const part of [...(schema.allOf ?? []), ...(schema.anyOf ?? [])]) {
    const found = fieldsOf(doc, part);
    if (found?.schema.properties) return found;
  }
  return schema.properties ? { schema, rows: false } : null;
}

/** A schema in words: its type, and what its values are. */
export function saying(doc: Document, of: Schema): { type: string; values: string } {
  const s = resolved(doc, of);
  const types = (Array.isArray(s.type) ? s.type : [s.type ?? '']).filter((t) => t !== 'null' && t !== '');
  const some = s.anyOf?.map((p) => saying(doc, p).type).filter((t) => t !== 'null' && t !== '');
  const nullable = (Array.isArray(s.type) && s.type.includes('null')) || s.anyOf?.some((p) => p.type === 'null');
  const base =
    s.items !== undefined
      ? `list of ${saying(doc, s.items).type}`
      : (s.format ?? types[0] ?? some?.[0] ?? (s.enum ? 'string' : 'object'));
  const bounds = [
    s.exclusiveMinimum === undefined ? '' : `above ${String(s.exclusiveMinimum)}`,
    s.maxLength === undefined ? '' : `at most ${String(s.maxLength)} characters`,
  ];
  const inner = s.anyOf?.map((p) => resolved(doc, p)).find((p) => p.enum);
  const values = (s.enum ?? inner?.enum ?? []).filter((v) => v !== null).join(' · ');
  return { type: base + (nullable ? ' or null' : ''), values: [values, ...bounds].filter(Boolean).join('; ') };
}

/** A path with examples in the place of its parameters, and the options that show most. */
export function example(op: Operation): string {
  const filled = op.parameters
    .filter((p) => p.in === 'path')
    .reduce((path, p) => path.replace(`{${p.name}}`, String(p.schema?.examples?.[0] ?? '1')), op.path);
  if (op.method !== 'GET') return filled;
  const option = (name: string) => op.parameters.find((p) => p.name === name && p.in === 'query');
  const query = [
    ...op.parameters
      .filter((p) => p.in === 'query' && p.required)
      .map((p) => `${p.name}=${String(p.schema?.examples?.[0] ?? '')}`),
    ...(option('filter')?.schema?.examples?.[0] ? [`filter=${String(option('filter')?.schema?.examples?.[0])}`] : []),
    ...(option('top') ? ['top=2'] : []),
  ];
  return query.length > 0 ? `${filled}?${query.join('&')}` : filled;
}
