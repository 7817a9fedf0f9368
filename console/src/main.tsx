import '@fontsource-variable/instrument-sans';
import '@fontsource-variable/jetbrains-mono';

import { ChakraProvider } from '@chakra-ui/react';
import createCache from '@emotion/cache';
import { CacheProvider } from '@emotion/react';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';

import { App } from './app';
import { system } from './look/system';

const queries = new QueryClient({ defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false } } });
// The page's content security policy lets in only styles that carry the number which the service gave this page.
const nonce = document.querySelector<HTMLMetaElement>('meta[name=style-nonce]')?.content;
const styles = createCache({ key: 'css', nonce });
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
