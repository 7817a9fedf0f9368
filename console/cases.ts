// What cases_test.go asks of several functions at once.
import type { CompletionContext } from '@codemirror/autocomplete';

import type { Model, Resource } from './src/api/hooks';
import { parse, print, target } from './src/pages/ask/sentence';
import { completeRule } from './src/pages/lights/rule';

/** An address, read into a sentence and written again. */
export const both = (address: string, parameters: string[]) => print(parse(address, parameters));

/** Where a path leads. */
export function leadsTo(model: Model, path: string) {
  const at = target(model, path);
  return { to: at?.resource.name ?? '', single: at?.single ?? false };
}

/** What is offered at the end of a row rule. */
export function offered(text: string, model: Model, resource: Resource, claims: string[]) {
  const context = {
    pos: text.length,
    explicit: true,
    state: { sliceDoc: (from: number, to: number) => text.slice(from, to) },
  };
  return (
    completeRule(context as unknown as CompletionContext, model, resource, claims)?.options.map((o) => o.label) ?? null
  );
}
