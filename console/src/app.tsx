import { Box } from '@chakra-ui/react';
import { useQueryClient } from '@tanstack/react-query';
import { Suspense, useEffect, useState } from 'react';
import { Redirect, Route, Switch } from 'wouter';

import { useSession } from './api/hooks';
import { useMode } from './look/mode';
import { Contained, Waiting } from './look/parts';
import { pages, type Page } from './pages';
import { SignInPage } from './pages/signin/SignInPage';
import { useLive } from './shell/live';
import { Shell } from './shell/Shell';

export function App() {
  const [mode, toggleMode] = useMode();
  const session = useSession();
  const cache = useQueryClient();
  const signedIn = !!session.data;
  const [begun, setBegun] = useState(signedIn);
  if (signedIn && !begun) setBegun(true);
  useLive(signedIn);
  useEffect(() => {
    // What was refused while nobody was signed in is read again.
    if (signedIn) void cache.invalidateQueries({ predicate: (q) => q.state.status === 'error' });
  }, [signedIn, cache]);
  if (session.isPending) return null;
  if (session.isError) return <Waiting what="the session" error={session.error} again={() => void session.refetch()} />;
  return (
    <>
      {begun && (
        <Box height="100%" inert={!signedIn}>
          <Switch>
            {pages.map((p) => (
              <Route key={p.name} path={`/${p.name}/:window?`}>
                {({ window }: { window?: string }) => (
                  <Shell
                    page={p.name}
                    window={window ?? ''}
                    email={session.data?.email ?? ''}
                    mode={mode}
                    toggleMode={toggleMode}
                  >
                    <View page={p} window={window ?? ''} />
                  </Shell>
                )}
              </Route>
            ))}
            <Route>
              <Redirect to="/windows" replace />
            </Route>
          </Switch>
        </Box>
      )}
      {!signedIn && <SignInPage again={begun} />}
    </>
  );
}

/** A page, loaded when it is first gone to. */
function View({ page, window }: { page: Page; window: string }) {
  if (window === '' && page.name !== 'windows') return <Redirect to="/windows" replace />;
  return (
    <Contained key={`${page.name} ${window}`}>
      <Suspense fallback={<Waiting what="the page" />}>
        <page.view window={window} />
      </Suspense>
    </Contained>
  );
}
