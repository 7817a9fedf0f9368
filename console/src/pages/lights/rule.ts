import type { CompletionContext, CompletionResult } from '@codemirror/autocomplete';

import type { Model, Resource } from '../../api/hooks';

/** Words that a rule can begin with or go on with. */
const words = [
  'and',
  'or',
  'not',
  'eq',
  'ne',
  'gt',
  'ge',
  'lt',
  'le',
  'in',
  'null',
  'true',
  'false',
  'contains(',
  'startswith(',
  'tolower(',
  'now()',
];

/** What is possible at the cursor of a row rule: fields along relations, claims, values of an enum, words. */
export function completeRule(
  context: CompletionContext,
  model: Model,
  resource: Resource,
  claims: string[],
): CompletionResult | null {
  const before = context.state.sliceDoc(0, context.pos);
  const value = /([\w/]+)\s+(?:eq|ne)\s+('?\w*)$/.exec(before);
  const field = value ? fieldAt(model, resource, (value[1] ?? '').split('/')) : undefined;
  const typedValue = value?.[2] ?? '';
  if (field && field.values.length > 0 && !typedValue.startsWith('@'))
    return { from: context.pos - typedValue.length, options: field.values.map((v) => ({ label: `'${v}'` })) };
  const typed = /[@\w/]*$/.exec(before)?.[0] ?? '';
  if (typed === '' && !context.explicit) return null;
  if (typed.startsWith('@'))
    return {
      from: context.pos - typed.length,
      options: claims.map((c) => ({ label: `@caller/${c}`, detail: 'of the caller' })),
    };
  const path = typed.split('/');
  const last = path.pop() ?? '';
  const at = resourceAt(model, resource, path);
  if (!at) return null;
  return {
    from: context.pos - last.length,
    options: [
      ...at.fields.map((f) => ({ label: f.name, detail: f.kind, info: f.about || undefined, boost: 1 })),
      ...at.relations.map((r) => ({
        label: r.name,
        apply: r.many ? `${r.name}/any(x: x/` : `${r.name}/`,
        detail: r.many ? `many ${r.to}` : `one of ${r.to}`,
      })),
      ...(path.length === 0
        ? [
            ...words.map((w) => ({ label: w })),
            ...claims.map((c) => ({ label: `@caller/${c}`, detail: 'of the caller' })),
          ]
        : []),
    ],
  };
}

function resourceAt(model: Model, from: Resource, path: string[]): Resource | undefined {
  let at: Resource | undefined = from;
  for (const name of path) {
    const to: string | undefined = at.relations.find((r) => r.name === name)?.to;
    at = model.resources.find((r) => r.name === to);
    if (!at) return undefined;
  }
  return at;
}

function fieldAt(model: Model, from: Resource, path: string[]) {
  return resourceAt(model, from, path.slice(0, -1))?.fields.find((f) => f.name === path.at(-1));
}
