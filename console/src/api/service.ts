import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import createClient from 'openapi-fetch';

import type { components, paths } from './schema';

type Schemas = components['schemas'];
export type Model = Schemas['Model'];
export type Resource = Schemas['Resource'];
export type Field = Schemas['Field'];
export type Role = Schemas['Role'];
export type Window = Schemas['Window'];

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

interface Outcome<T> {
  data?: T;
  error?: Schemas['Error'];
  response: Response;
}

/** The data of an answer, or a Refused. */
function settled<T>({ data, error, response }: Outcome<T>): T {
  if (error !== undefined || data === undefined) {
    throw new Refused(response.status, error?.error.message ?? `the service answered ${String(response.status)}`);
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
