import '@fontsource-variable/instrument-sans';
import '@fontsource-variable/jetbrains-mono';

import { ChakraProvider } from '@chakra-ui/react';
import createCache from '@emotion/cache';
import { CacheProvider } from '@emotion/react';
import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';

import { Refused, sessionEnded } from './api/client';
import { App } from './app';
import { styleNonce } from './look/nonce';
import { system } from './look/system';

/** A session that has ended is noticed wherever it shows; the page stays as it is below the sign-in. */
const onError = (e: unknown) => {
  if (sessionEnded(e)) queries.setQueryData(['session'], null);
};
const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (n, e) => !(e instanceof Refused) && n < 4,
      retryDelay: 1000,
      refetchOnWindowFocus: false,
      staleTime: 2000,
    },
  },
  queryCache: new QueryCache({ onError }),
  mutationCache: new MutationCache({ onError }),
});
// The page's content security policy lets in only styles that carry the number which the service gave this page.
const styles = createCache({ key: 'css', nonce: styleNonce });
const root = document.getElementById('root');
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <CacheProvider value={styles}>
          <ChakraProvider value={system}>
            <App />
          </ChakraProvider>
        </CacheProvider>
      </QueryClientProvider>
    </StrictMode>,
  );
}
