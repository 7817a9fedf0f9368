import type { Model } from '../../api/hooks';

/** The verbs of the sentence, and the methods that they stand for. */
export const verbs = { GET: 'read', POST: 'add to', PATCH: 'change', PUT: 'replace', DELETE: 'delete' } as const;
export type Method = keyof typeof verbs;
export const methods = Object.keys(verbs) as Method[];

export function methodOf(text: string | null): Method {
  return methods.find((m) => m === text) ?? 'GET';
}

const each = /^\/([^/?]+)\/\$filter\(@f\)\/\$each\?@f=(.*)$/;

/** The address that goes with another verb: a filtered read becomes a write of every row of the filter, and back. */
export function addressFor(method: Method, address: string): string {
  const every = each.exec(address);
  const name = /^\/([^/?]+)/.exec(address)?.[1] ?? '';
  if (method === 'GET') return every ? `/${every[1] ?? ''}?filter=${every[2] ?? ''}&top=20&count=true` : address;
  if (method === 'POST') return `/${name}`;
  if (every && method !== 'PUT') return address;
  if (/^\/[^/?]+\/[^?]/.test(address) && !every) return address;
  const filter = /[?&]\$?filter=([^&]*)/.exec(address)?.[1];
  if (filter && method !== 'PUT') return `/${name}/$filter(@f)/$each?@f=${filter}`;
  return `/${name}/`;
}

/** The condition of a write of every row that meets it. */
export function conditionOf(address: string): string | undefined {
  return each.exec(address)?.[2];
}

/** What a write would touch: what to read to find out, and how to say it; or what can be said at once. */
export interface Touch {
  read?: string;
  /** Not a row that is read, but the write of many rows itself, which is explained and not done. */
  many?: Method;
  says: string;
  button: string;
}

const buttons = { GET: 'Ask', POST: 'Add', PATCH: 'Change', PUT: 'Replace', DELETE: 'Delete' };

function items(body: string, name: string): unknown[] {
  try {
    const read: unknown = JSON.parse(body);
    const list: unknown = typeof read === 'object' && read !== null ? (read as Record<string, unknown>)[name] : null;
    return Array.isArray(list) ? list : [];
  } catch {
    return [];
  }
}

const counted = (n: number, what: string) => `${n.toLocaleString('en')} ${what}${n === 1 ? '' : 's'}`;

export function touchOf(method: Method, address: string, body: string): Touch {
  const [path = '', query = ''] = address.split(/\?(.*)/s);
  const segments = path.split('/').filter((s) => s !== '');
  const name = segments[0] ?? '';
  if (name === '$batch') {
    const n = items(body, 'requests').length;
    return { says: `Runs ${counted(n, 'request')} in their order.`, button: `Run ${counted(n, 'request')}` };
  }
  if (path.endsWith('/$ref')) {
    return method === 'DELETE'
      ? { says: 'Unlinks two rows; neither is deleted.', button: 'Unlink' }
      : { says: 'Links two rows.', button: 'Link' };
  }
  if (method === 'POST')
    return { says: `Adds one row to ${segments.join('/')}, and the rows that are nested in it.`, button: 'Add' };
  if (path.endsWith('/$each')) {
    const aliases = query
      .split('&')
      .filter((o) => o.startsWith('@'))
      .join('&');
    return {
      read: `${path}?${aliases}`,
      many: method,
      says: name,
      button: buttons[method],
    };
  }
  if (segments.length === 1 && method === 'PATCH') {
    const list = items(body, 'value');
    const gone = list.filter((i) => typeof i === 'object' && i !== null && '@removed' in i).length;
    if (list.length > 0)
      return {
        says: `Changes or adds ${counted(list.length - gone, 'row')} of ${name} and deletes ${counted(gone, 'row')}, all or none.`,
        button: `Write ${counted(list.length, 'row')}`,
      };
  }
  if (segments.length < 2)
    return {
      says: `Say which row: add its key to the path, as in /${name}/…, or read by a filter first.`,
      button: buttons[method],
    };
  return { read: path, says: segments.join('/'), button: `${buttons[method]} 1 row` };
}

/** What a body may hold at one place, as the description has it. */
export interface BodyField {
  name: string;
  kind: string;
  values: string[];
  about: string;
  required: boolean;
}

/** The part of a JSON Schema that is read here. */
interface Schema {
  $ref?: string;
  anyOf?: Schema[];
  allOf?: Schema[];
  type?: string | string[];
  format?: string;
  enum?: (string | null)[];
  description?: string;
  examples?: unknown[];
  properties?: Record<string, Schema>;
  required?: string[];
}

export interface Description {
  components: { schemas: Record<string, Schema> };
}

/** The fields that a body may have at a path of relations, outermost first. */
export function bodyFields(
  description: Description,
  model: Model,
  method: Method,
  address: string,
  within: string[],
): BodyField[] {
  const segments = (address.split('?')[0] ?? '').split('/').filter((s) => s !== '' && !s.startsWith('$'));
  let resource = model.resources.find((r) => r.name === segments[0]);
  for (const s of segments.slice(1)) {
    const to = resource?.relations.find((r) => r.name === s)?.to;
    if (to) resource = model.resources.find((r) => r.name === to);
  }
  if (address.endsWith('/$ref')) return [control('@id', 'The path of the row at the other end.')];
  let nested = false;
  for (const name of within) {
    if (name === 'value' && !nested) continue; // the rows of a delta
    const to = resource?.relations.find((r) => r.name === name.replace(/@delta$/, ''))?.to;
    resource = model.resources.find((r) => r.name === to);
    nested = true;
  }
  if (!resource) return [];
  const kind = nested || method === 'POST' ? 'create' : method === 'PUT' ? 'replace' : 'change';
  const schemas = description.components.schemas;
  const schema = schemas[`${resource.schema}-${kind}`] ?? schemas[`${resource.schema}-change`];
  const fields = Object.entries(schema?.properties ?? {}).map(([name, s]) => ({
    name,
    kind: kindOf(resolved(s, schemas)),
    values: valuesOf(resolved(s, schemas)),
    about: s.description ?? '',
    required: schema?.required?.includes(name) ?? false,
  }));
  const whole = segments.length === 1 && method === 'PATCH' && within.length === 0 && !address.includes('/$each');
  if (whole) return [control('@context', '#$delta'), { ...control('value', 'The rows of the delta.'), kind: 'array' }];
  if (nested || within[0] === 'value')
    fields.push(
      control('@id', 'A row that is there already, by its path.'),
      control('@etag', 'The version that is meant: nothing is written if the row has changed since.'),
      {
        ...control(
          '@removed',
          '{"reason":"changed"} takes the row out of the relation, {"reason":"deleted"} deletes it.',
        ),
        kind: 'object',
      },
    );
  return fields;
}

const control = (name: string, about: string): BodyField => ({
  name,
  kind: 'string',
  values: [],
  about,
  required: false,
});

/** What a schema refers to, where it does: an enumeration is there once, under its name. */
function resolved(s: Schema, schemas: Record<string, Schema>): Schema {
  const ref = s.$ref ?? [...(s.anyOf ?? []), ...(s.allOf ?? [])].find((part) => part.$ref)?.$ref;
  return schemas[ref?.split('/').pop() ?? ''] ?? s;
}

function kindOf(s: Schema): string {
  const types = (Array.isArray(s.type) ? s.type : [s.type ?? 'object']).filter((t) => t !== 'null');
  return s.format ?? types[0] ?? 'object';
}

function valuesOf(s: Schema): string[] {
  if (s.enum) return s.enum.map((v) => JSON.stringify(v));
  if (s.type === 'boolean') return ['true', 'false'];
  return (s.examples ?? []).map((e) => JSON.stringify(e));
}
