import { useMutation } from '@tanstack/react-query';

import { fetched } from '../../api/client';
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

async function ask(window: string, { method, address, body: sent, speaker, real }: Request): Promise<Answer> {
  const start = performance.now();
  const as = actAs(speaker);
  const carries = method !== 'GET' && method !== 'DELETE';
  const many = address.split('?', 1)[0]?.endsWith('/$each'); // may be a million rows
  const { response, text } = await fetched(`/draft/${window}${encoded(address)}`, {
    method,
    headers: {
      ...(as ? { 'Act-As': as } : {}),
      ...(carries ? { 'Content-Type': 'application/json' } : {}),
      ...(carries && !many ? { Prefer: 'return=representation' } : {}),
      ...(method === 'GET' || real ? {} : { Rehearsal: 'once' }),
    },
    body: carries ? sent : undefined,
  });
  const body = read(text);
  const answer: Answer = {
    status: response.status,
    phrase: response.statusText,
    headers: [...response.headers.entries()],
    text,
    milliseconds: performance.now() - start,
    bytes: new TextEncoder().encode(text).length,
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
