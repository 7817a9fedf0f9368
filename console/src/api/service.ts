import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import createClient from 'openapi-fetch';

import type { components, paths } from './schema';

type Schemas = components['schemas'];
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

const manage = createClient<paths>({ baseUrl: '/manage' });

/** What the service says when it refuses. */
export class Refused extends Error {
  constructor(
    public status: number,
    message: string,
  ) {
    super(message);
  }
}

/** Where in a text a mistake stands. */
function place({ line, column }: Schemas['Mistake']): string {
  return line ? `line ${String(line)}, column ${String(column)}: ` : '';
}

interface Outcome<T> {
  data?: T;
  error?: Schemas['Error'];
  response: Response;
}

/** The data of an answer, or a Refused. */
function settled<T>({ data, error, response }: Outcome<T>): T {
  if (error !== undefined || data === undefined) {
    const { message, details = [] } = error?.error ?? {
      message: `the service answered ${String(response.status)}`,
    };
    throw new Refused(response.status, [message, ...details.map((d) => `${place(d)}${d.message}`)].join('\n'));
  }
  return data;
}

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
  const cache = useQueryClient();
  return useMutation({
    mutationFn: () => manage.DELETE('/session'),
    onSuccess: () => {
      cache.setQueryData(['session'], null);
      cache.removeQueries({ predicate: (q) => q.queryKey[0] !== 'session' });
    },
  });
}

export function useWindows() {
  return useQuery({ queryKey: ['windows'], queryFn: async () => settled(await manage.GET('/windows')) });
}

export function useModel(window: string) {
  return useQuery({
    queryKey: ['model', window],
    queryFn: async () => settled(await manage.GET('/windows/{window}/model', { params: { path: { window } } })),
  });
}

export function useLights(window: string) {
  return useQuery({
    queryKey: ['lights', window],
    queryFn: async () => settled(await manage.GET('/windows/{window}/access', { params: { path: { window } } })),
  });
}

export function useGrant(window: string, role: string, resource: string) {
  return useQuery({
    queryKey: ['grant', window, role, resource],
    queryFn: async () =>
      settled(
        await manage.GET('/windows/{window}/grants/{role}/{resource}', {
          params: { path: { window, role, resource } },
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
  return useQuery({
    queryKey: ['rule', window, role, resource, rows, claims],
    queryFn: async () =>
      settled(
        await manage.POST('/windows/{window}/rules', {
          params: { path: { window } },
          body: { role, resource, rows, claims },
        }),
      ),
    enabled: rows.trim() !== '',
    placeholderData: (last) => last,
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
    queryFn: async () => settled(await manage.GET('/windows/{window}/callers', { params: { path: { window } } })),
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
