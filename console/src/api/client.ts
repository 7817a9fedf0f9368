import createClient from 'openapi-fetch';

import type { components, paths } from './schema';

export type Schemas = components['schemas'];

/** The management API of the service that serves this page. */
export const manage = createClient<paths>({ baseUrl: '/manage' });

/** What the service says when it refuses. */
export class Refused extends Error {
  constructor(
    public status: number,
    public code: string,
    message: string,
    public mistakes: Schemas['Mistake'][] = [],
  ) {
    super(message);
  }
}

/** Where in a text a mistake is. */
export function place({ line, column }: Schemas['Mistake']): string {
  return line ? `line ${String(line)}, column ${String(column)}: ` : '';
}

interface Outcome<T> {
  data?: T;
  error?: Schemas['Error'];
  response: Response;
}

/** The refusal that an answer is. */
export function refusal(status: number, error: Schemas['Error'] | undefined): Refused {
  const {
    code,
    message,
    details = [],
  } = error?.error ?? {
    code: 'unknown',
    message: status === 0 ? 'The service does not answer.' : `The service answered ${String(status)}.`,
  };
  return new Refused(status, code, [message, ...details.map((d) => `${place(d)}${d.message}`)].join('\n'), details);
}

/** The data of an answer, or a Refused. */
export function settled<T>({ data, error, response }: Outcome<T>): T {
  if (error !== undefined || data === undefined) throw refusal(response.status, error);
  return data;
}

/** Codes of refusals that say that the operator is not signed in any more. */
const ended = ['token.missing', 'session.ended', 'token.operator'];

export const sessionEnded = (e: unknown) => e instanceof Refused && e.status === 401 && ended.includes(e.code);

/** An answer of the data API or of a description, as text. It is a refusal where the session has ended. */
export async function fetched(address: string, init?: RequestInit): Promise<{ response: Response; text: string }> {
  const response = await fetch(address, init);
  const text = await response.text();
  if (response.status === 401) {
    const refused = refusal(401, JSON.parse(text) as Schemas['Error']);
    if (sessionEnded(refused)) throw refused;
  }
  return { response, text };
}

/** What an address answers with as JSON, or a Refused. */
export async function fetchedJSON<T>(address: string, init?: RequestInit): Promise<T> {
  const { response, text } = await fetched(address, init);
  const read: unknown = JSON.parse(text);
  if (!response.ok) throw refusal(response.status, read as Schemas['Error']);
  return read as T;
}
