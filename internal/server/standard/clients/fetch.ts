// A client of openapi-fetch with generated types: what it reads and writes is typed, and no digit is lost.
import createClient from 'openapi-fetch';
import type { paths } from './types';

declare const process: { argv: string[]; exit(code: number): never };
const api = createClient<paths>({ baseUrl: process.argv[2], headers: { Authorization: `Bearer ${process.argv[3]}` } });

async function main() {
  const list = await api.GET('/tugs', { params: { query: { filter: "name eq 'Bram'", count: true } } });
  if (!list.data) throw new Error(list.error.error.message);
  const first = list.data.value[0];
  const name: string = first.name;
  const pull: number = first.bollard_pull_t;
  // @ts-expect-error there is no such field
  void first.nothing;
  // @ts-expect-error a required field is missing
  void (() => api.POST('/tugs', { body: { name: 'Short' } }));

  const made = await api.POST('/tugs', { body: { name: 'Typed', bollard_pull_t: 1234.5 } });
  if (!made.data) throw new Error(made.error?.error.message);
  const path = { id: made.data.id };
  const changed = await api.PATCH('/tugs/{id}', {
    params: { path, header: { 'If-Match': made.response.headers.get('etag') ?? '' } },
    body: { bollard_pull_t: 1234.6 },
  });
  if (!changed.data) throw new Error(changed.error?.error.message);
  const stale = await api.PATCH('/tugs/{id}', {
    params: { path, header: { 'If-Match': made.response.headers.get('etag') ?? '' } },
    body: { bollard_pull_t: 1 },
  });
  const gone = await api.DELETE('/tugs/{id}', { params: { path } });
  console.log(name, typeof pull, made.data.bollard_pull_t, changed.data.bollard_pull_t, stale.response.status, gone.response.status);
}

main().catch((error) => {
  console.log(String(error));
  process.exit(1);
});
