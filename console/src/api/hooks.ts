import {
  keepPreviousData,
  queryOptions,
  useMutation,
  useQuery,
  useQueryClient,
  type QueryClient,
} from '@tanstack/react-query';
import { useEffect, useState } from 'react';

import { fetched, fetchedJSON, manage, place, refusal, Refused, settled, type Schemas } from './client';

export type Model = Schemas['Model'];
export type Resource = Schemas['Resource'];
export type Field = Schemas['Field'];
export type Role = Schemas['Role'];
export type Window = Schemas['Window'];
export type Lights = Schemas['Lights'];
export type Light = Schemas['Light'];
export type Grant = Schemas['Grant'];
export type GrantChange = Schemas['GrantChange'];
export type Operation = Schemas['Operation'];
export type Roster = Schemas['Roster'];
export type ClientEntry = Schemas['ClientEntry'];
export type AccountEntry = Schemas['AccountEntry'];
export type Sketch = Schemas['Sketch'];
export type SketchEdit = Schemas['SketchEdit'];
export type TableView = Schemas['TableView'];
export type Difference = Schemas['Difference'];
export type Change = Schemas['Change'];
export type CheckResult = Schemas['CheckResult'];
export type Run = Schemas['Run'];
export type Release = Schemas['Release'];
export type Traffic = Schemas['Traffic'];
export type Asked = Schemas['Asked'];

export function useSession() {
  return useQuery({
    queryKey: ['session'],
    queryFn: async () => {
      const outcome = await manage.GET('/session');
      return outcome.response.status === 401 ? null : settled(outcome);
    },
    staleTime: Infinity,
  });
}

export function useSignIn() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: async (body: Schemas['Credentials']) => settled(await manage.POST('/session', { body })),
    onSuccess: (session) => cache.setQueryData(['session'], session),
  });
}

export function useSignOut() {
  return useMutation({
    mutationFn: () => manage.DELETE('/session'),
    onSuccess: () => location.assign('/'), // nothing that was read stays in memory
  });
}

export function useWindows() {
  return useQuery({
    queryKey: ['windows'],
    queryFn: async ({ signal }) => settled(await manage.GET('/windows', { signal })),
    refetchInterval: 30_000,
  });
}

export function useModel(window: string) {
  return useQuery({
    queryKey: ['model', window],
    enabled: window !== '',
    queryFn: async ({ signal }) => settled(await manage.GET('/windows/{window}/model', { ...of(window), signal })),
  });
}

export function useLights(window: string) {
  return useQuery({
    queryKey: ['lights', window],
    queryFn: async ({ signal }) => settled(await manage.GET('/windows/{window}/access', { ...of(window), signal })),
  });
}

export function useGrant(window: string, role: string, resource: string) {
  return useQuery({
    queryKey: ['grant', window, role, resource],
    queryFn: async ({ signal }) =>
      settled(
        await manage.GET('/windows/{window}/grants/{role}/{resource}', {
          params: { path: { window, role, resource } },
          signal,
        }),
      ),
  });
}

/** Changes a grant in the draft; everything that the draft says is read anew. */
export function useSetGrant(window: string, role: string, resource: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: async (body: GrantChange) =>
      settled(
        await manage.PUT('/windows/{window}/grants/{role}/{resource}', {
          params: { path: { window, role, resource } },
          body,
        }),
      ),
    onSuccess: () => cache.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' }),
  });
}

/** What is wrong with a row rule, and how many rows it covers for a caller with these claims. */
export function useRule(window: string, role: string, resource: string, rows: string, claims: Record<string, string>) {
  const asked = useSettled(rows);
  return useQuery({
    queryKey: ['rule', window, role, resource, asked, useSettled(JSON.stringify(claims))],
    queryFn: async ({ signal }) =>
      settled(
        await manage.POST('/windows/{window}/rules', {
          ...of(window),
          body: { role, resource, rows: asked, claims },
          signal,
        }),
      ),
    enabled: asked.trim() !== '',
    placeholderData: keepPreviousData,
  });
}

export function useWhy(window: string) {
  return useMutation({
    mutationFn: async (body: Schemas['Question']) =>
      settled(await manage.POST('/windows/{window}/access', { params: { path: { window } }, body })),
  });
}

export function useCallers(window: string) {
  return useQuery({
    queryKey: ['callers', window],
    enabled: window !== '',
    queryFn: async ({ signal }) => settled(await manage.GET('/windows/{window}/callers', { ...of(window), signal })),
    refetchInterval: 10_000,
  });
}

/** What is done to the callers of a window; they are read anew afterwards. */
export function useCallerWork(window: string) {
  const cache = useQueryClient();
  const again = { onSuccess: () => cache.invalidateQueries({ queryKey: ['callers', window] }) };
  const one = (caller: string) => ({ params: { path: { window, caller } } });
  return {
    addClient: useMutation({
      mutationFn: async ({ id, ...body }: Schemas['NewClient'] & { id: string }) =>
        settled(await manage.PUT('/windows/{window}/clients/{caller}', { ...one(id), body })),
      ...again,
    }),
    addAccount: useMutation({
      mutationFn: async (body: Schemas['NewAccount']) =>
        settled(await manage.POST('/windows/{window}/accounts', { params: { path: { window } }, body })),
      ...again,
    }),
    change: useMutation({
      mutationFn: async ({ kind, id, body }: { kind: CallerKind; id: string; body: Schemas['CallerChange'] }) =>
        settled(
          kind === 'client'
            ? await manage.PATCH('/windows/{window}/clients/{caller}', { ...one(id), body })
            : await manage.PATCH('/windows/{window}/accounts/{caller}', { ...one(id), body }),
        ),
      ...again,
    }),
    remove: useMutation({
      mutationFn: async ({ kind, id }: { kind: CallerKind; id: string }) =>
        settled(
          kind === 'client'
            ? await manage.DELETE('/windows/{window}/clients/{caller}', one(id))
            : await manage.DELETE('/windows/{window}/accounts/{caller}', one(id)),
        ),
      ...again,
    }),
    rotate: useMutation({
      mutationFn: async (forget: boolean) => settled(await manage.POST('/signing-keys', { body: { forget } })),
    }),
  };
}

export type CallerKind = 'client' | 'account';

const of = (window: string) => ({ params: { path: { window } } });

/** What is typed, when the typing has paused. */
export function useSettled<T>(value: T, pause = 250): T {
  const [kept, setKept] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setKept(value), pause);
    return () => clearTimeout(timer);
  }, [value, pause]);
  return kept;
}

/** All that was read of a window is read anew, but for what is being edited. */
export function forgetWindow(cache: QueryClient, window: string) {
  return cache.invalidateQueries({
    predicate: ({ queryKey: [what, of] }) => what === 'windows' || (of === window && what !== 'session'),
  });
}

/** Reads what a database holds. */
export function useLook() {
  return useMutation({
    mutationFn: async (source: string) => {
      const start = performance.now();
      const catalog = settled(await manage.POST('/look', { body: { source } }));
      return { catalog, took: performance.now() - start };
    },
  });
}

export function useOpenWindow() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: async (body: Schemas['NewWindow']) => settled(await manage.POST('/windows', { body })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['windows'] }),
  });
}

/** Edits a document, and says what it means. Nothing is saved. */
export async function sketch(window: string, body: Schemas['NewSketch'], signal?: AbortSignal): Promise<Sketch> {
  return settled(await manage.POST('/windows/{window}/sketch', { ...of(window), body, signal }));
}

/** Saves a document as the draft, which was made of a version of it. */
export function useSaveDraft(window: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: async (body: Schemas['Push']) =>
      settled(await manage.PUT('/windows/{window}/draft', { ...of(window), body })),
    onSuccess: () => forgetWindow(cache, window),
  });
}

/** How the draft, or another version, differs from what is live, or from another one. */
export function useDifference(window: string, from = '', to = '', enabled = true) {
  return useQuery({
    queryKey: ['difference', window, from, to],
    queryFn: async ({ signal }) =>
      settled(
        await manage.GET('/windows/{window}/difference', {
          params: { path: { window }, query: { ...(from ? { from } : {}), ...(to ? { to } : {}) } },
          signal,
        }),
      ),
    enabled,
    placeholderData: keepPreviousData,
  });
}

export function useReleases(window: string) {
  return useQuery({
    queryKey: ['releases', window],
    enabled: window !== '',
    queryFn: async ({ signal }) => settled(await manage.GET('/windows/{window}/releases', { ...of(window), signal })),
  });
}

export function usePublish(window: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: async (body: Schemas['NewRelease']) =>
      settled(await manage.POST('/windows/{window}/releases', { ...of(window), body })),
    onSuccess: () => forgetWindow(cache, window),
  });
}

export function useDiscard(window: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: async () => settled(await manage.DELETE('/windows/{window}/draft', of(window))),
    onSuccess: () => forgetWindow(cache, window),
  });
}

export function useDrift(window: string, enabled: boolean) {
  return useQuery({
    queryKey: ['drift', window],
    queryFn: async ({ signal }) => settled(await manage.GET('/windows/{window}/drift', { ...of(window), signal })),
    enabled,
  });
}

export function useSuites(window: string) {
  return useQuery({
    queryKey: ['suites', window],
    queryFn: async ({ signal }) => settled(await manage.GET('/windows/{window}/suites', { ...of(window), signal })),
  });
}

export function useSuiteWork(window: string) {
  const cache = useQueryClient();
  const again = { onSuccess: () => cache.invalidateQueries({ queryKey: ['suites', window] }) };
  const one = (suite: string) => ({ params: { path: { window, suite } } });
  return {
    save: useMutation({
      mutationFn: async ({ name, text }: { name: string; text: string }) =>
        settled(await manage.PUT('/windows/{window}/suites/{suite}', { ...one(name), body: { text } })),
      ...again,
    }),
    amend: useMutation({
      mutationFn: async ({ name, amendments }: { name: string; amendments: Schemas['Amendment'][] }) =>
        settled(await manage.PATCH('/windows/{window}/suites/{suite}', { ...one(name), body: { amendments } })),
      ...again,
    }),
    remove: useMutation({
      mutationFn: async (name: string) => settled(await manage.DELETE('/windows/{window}/suites/{suite}', one(name))),
      ...again,
    }),
  };
}

export function useRuns(window: string) {
  return useQuery({
    queryKey: ['runs', window],
    queryFn: async ({ signal }) => settled(await manage.GET('/windows/{window}/runs', { ...of(window), signal })),
  });
}

export function useRun(window: string, run: number | undefined) {
  return useQuery({
    queryKey: ['runs', window, run],
    queryFn: async ({ signal }) =>
      settled(
        await manage.GET('/windows/{window}/runs/{run}', { params: { path: { window, run: run ?? 0 } }, signal }),
      ),
    enabled: run !== undefined,
    placeholderData: keepPreviousData,
  });
}

/** Runs suites and hands each result on as it comes. */
export async function runChecks(
  window: string,
  body: Schemas['NewChecks'],
  done: (r: CheckResult) => void,
  signal: AbortSignal,
) {
  const response = await fetch(`/manage/windows/${window}/checks`, {
    method: 'POST',
    headers: { 'Content-Type': 'application/json' },
    body: JSON.stringify(body),
    signal,
  });
  if (!response.ok || !response.body)
    throw refusal(response.status, (await response.json().catch(() => undefined)) as Schemas['Error'] | undefined);
  const lines = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = '';
  for (let part = await lines.read(); !part.done; part = await lines.read()) {
    const whole = (rest + part.value).split('\n');
    rest = whole.pop() ?? '';
    for (const line of whole) {
      const result = JSON.parse(line) as CheckResult;
      if (result.error)
        throw refusal(500, { error: { code: result.error.code ?? '', message: result.error.message ?? '' } });
      done(result);
    }
  }
}

export interface TrafficChoice {
  over: 'hour' | 'day' | 'week' | 'month';
  resource: string;
  role: string;
  status: '' | 'answered' | 'refused' | 'failed';
}

export function useTraffic(window: string, { over, resource, role, status }: TrafficChoice) {
  return useQuery({
    queryKey: ['traffic', window, over, resource, role, status],
    queryFn: async ({ signal }) =>
      settled(
        await manage.GET('/windows/{window}/traffic', {
          params: {
            path: { window },
            query: {
              over,
              ...(resource ? { resource } : {}),
              ...(role ? { role } : {}),
              ...(status ? { status } : {}),
            },
          },
          signal,
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
  });
}

export function useShape(window: string, shape: string) {
  return useQuery({
    queryKey: ['shape', window, shape],
    queryFn: async ({ signal }) =>
      settled(
        await manage.GET('/windows/{window}/traffic/shape', { params: { path: { window }, query: { shape } }, signal }),
      ),
    enabled: shape !== '',
  });
}

export function useAsked(window: string) {
  return useQuery({
    queryKey: ['asked', window],
    queryFn: async ({ signal }) => settled(await manage.GET('/windows/{window}/asked', { ...of(window), signal })),
  });
}

/** How long the service takes to say that its databases answer; null where one does not. */
export function useReady() {
  return useQuery({
    queryKey: ['ready'],
    queryFn: async ({ signal }) => {
      let least = Infinity; // of three: the page itself may be busy
      for (let n = 0; n < 3; n++) {
        const start = performance.now();
        const { response } = await fetched('/readyz', { signal });
        if (!response.ok) return null;
        least = Math.min(least, performance.now() - start);
      }
      return least;
    },
    refetchInterval: 15_000,
  });
}

/** Makes edits to the draft's document and saves it; what others have edited meanwhile stays. */
export function useEdits(window: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: async (edits: SketchEdit[]) => {
      const made = await sketch(window, { edits });
      if (made.mistakes.length > 0)
        throw new Refused(
          400,
          'document.invalid',
          made.mistakes.map((m) => place(m) + m.message).join('\n'),
          made.mistakes,
        );
      return settled(
        await manage.PUT('/windows/{window}/draft', {
          ...of(window),
          body: { document: made.document, base: made.version },
        }),
      );
    },
    onSuccess: () => forgetWindow(cache, window),
  });
}

/** Makes a suite of requests of the history, or one to begin with. */
export function useNewSuite(window: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: async (body: Schemas['NewSuite']) =>
      settled(await manage.POST('/windows/{window}/suites', { ...of(window), body })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['suites', window] }),
  });
}

/** A request in all languages. */
export function useSnippets(window: string, request: Schemas['ToWrite']) {
  return useQuery({
    queryKey: ['snippets', window, request],
    queryFn: async ({ signal }) =>
      settled(await manage.POST('/windows/{window}/snippets', { ...of(window), body: request, signal })),
    placeholderData: keepPreviousData,
  });
}

/** The description of the draft as a role has it, or an operator. */
export function described<T>(window: string, role: string) {
  return queryOptions({
    queryKey: ['description', window, role],
    queryFn: ({ signal }) =>
      fetchedJSON<T>(`/draft/${window}/openapi.json${role ? `?role=${encodeURIComponent(role)}` : ''}`, { signal }),
    staleTime: 60_000,
  });
}
