import { useMutation } from '@tanstack/react-query';

import { fetched, manage, settled, type Schemas } from '../../api/client';
import { encoded } from './sentence';
import { actAs, type Speaker } from './speaker';
import type { Method } from './writing';

export type Json = string | number | boolean | null | Json[] | { [name: string]: Json };
export type Row = Record<string, Json>;

/** An answer of the draft as it came. */
export interface Answer {
  status: number;
  phrase: string;
  headers: [string, string][];
  text: string;
  milliseconds: number;
  bytes: number;
  rows: Row[] | null;
  total: number | null;
  error: string | null;
  /** What a write that was rolled back did to each row. */
  rehearsed: Pick<Schemas['Rehearsed'], 'rows' | 'more' | 'lasting'> | null;
}

function read(text: string): Json {
  try {
    return JSON.parse(text) as Json;
  } catch {
    return null;
  }
}

function isRow(v: Json | undefined): v is Row {
  return typeof v === 'object' && v !== null && !Array.isArray(v);
}

/** A request as it is sent. */
export interface Request {
  method: Method;
  address: string;
  body: string;
  speaker: Speaker;
  /** Whether a write stays; otherwise it is rehearsed. */
  real?: boolean;
}

/** What an answer begins as: what came over the wire. */
type Raw = Pick<Answer, 'status' | 'phrase' | 'headers' | 'text' | 'rehearsed'>;

async function send(window: string, { method, address, body, speaker }: Request): Promise<Raw> {
  const as = actAs(speaker);
  const { response, text } = await fetched(`/draft/${window}${encoded(address)}`, {
    method,
    headers: { ...(as ? { 'Act-As': as } : {}), ...bodyHeaders(method, address) },
    body: carries(method) ? body : undefined,
  });
  return {
    status: response.status,
    phrase: response.statusText,
    headers: [...response.headers.entries()],
    text,
    rehearsed: null,
  };
}

async function rehearse(window: string, { method, address, body, speaker }: Request): Promise<Raw> {
  const as = actAs(speaker);
  const done = settled(
    await manage.POST('/windows/{window}/rehearsals/once', {
      params: { path: { window } },
      body: {
        method: method as Schemas['Write']['method'],
        path: encoded(address).replace(/^\//, ''),
        headers: bodyHeaders(method, address),
        ...(as ? { act_as: as } : {}),
        ...(carries(method) ? { body } : {}),
      },
    }),
  );
  return {
    status: done.status,
    phrase: done.reason,
    headers: Object.entries(done.headers).map(([name, value]) => [name.toLowerCase(), value]),
    text: done.body,
    rehearsed: done,
  };
}

const carries = (method: Method) => method !== 'GET' && method !== 'DELETE';

/** Of every row of a filter, which may be a million, none comes back. */
const bodyHeaders = (method: Method, address: string): Record<string, string> =>
  !carries(method)
    ? {}
    : {
        'Content-Type': 'application/json',
        ...(address.split('?', 1)[0]?.endsWith('/$each') ? {} : { Prefer: 'return=representation' }),
      };

async function ask(window: string, request: Request): Promise<Answer> {
  const start = performance.now();
  const raw = await (request.method === 'GET' || request.real ? send : rehearse)(window, request);
  const body = read(raw.text);
  const answer: Answer = {
    ...raw,
    milliseconds: performance.now() - start,
    bytes: new TextEncoder().encode(raw.text).length,
    rows: null,
    total: null,
    error: null,
  };
  if (!isRow(body)) return answer;
  if (isRow(body.error)) {
    const details = Array.isArray(body.error.details) ? body.error.details.filter(isRow) : [];
    answer.error = [body.error.message, ...details.map((d) => d.message)].map(String).join('\n');
  } else if (Array.isArray(body.value)) {
    answer.rows = body.value.filter(isRow);
    answer.total = typeof body['@count'] === 'number' ? body['@count'] : null;
  } else {
    answer.rows = [Object.fromEntries(Object.entries(body).filter(([name]) => !name.startsWith('@')))];
  }
  return answer;
}

/** Sends requests to a window's draft, one at a time. */
export function useAnswer(window: string) {
  return useMutation({
    mutationFn: (request: Request) => ask(window, request),
  });
}
