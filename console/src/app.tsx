import { Box } from '@chakra-ui/react';
import { Redirect, Route, Switch } from 'wouter';

import { useSession, useWindows } from './api/service';
import { useMode } from './look/mode';
import { Problem } from './look/parts';
import { AskPage } from './pages/ask/AskPage';
import { CallersPage } from './pages/callers/CallersPage';
import { LightsPage } from './pages/lights/LightsPage';
import { SignInPage } from './pages/signin/SignInPage';
import { Shell } from './shell/Shell';

const pages = { lights: LightsPage, ask: AskPage, callers: CallersPage };

export function App() {
  const [mode, toggleMode] = useMode();
  const session = useSession();
  if (session.isPending) return null;
  if (session.isError) return <Centred problem={session.error.message} />;
  if (session.data === null) return <SignInPage />;
  return (
    <Switch>
      {Object.entries(pages).map(([page, Page]) => (
        <Route key={page} path={`/${page}/:window`}>
          {({ window }: { window: string }) => (
            <Shell page={page} window={window} email={session.data?.email ?? ''} mode={mode} toggleMode={toggleMode}>
              <Page key={window} window={window} />
            </Shell>
          )}
        </Route>
      ))}
      <Route>
        <FirstWindow />
      </Route>
    </Switch>
  );
}

/** Goes on to the first window, or says how to open one. */
function FirstWindow() {
  const windows = useWindows();
  if (windows.isPending) return null;
  if (windows.isError) return <Centred problem={windows.error.message} />;
  const first = windows.data[0];
  if (first) return <Redirect to={`/ask/${first.name}`} replace />;
  return <Centred problem="No window is open yet. Open one with: eager open DSN" />;
}

function Centred({ problem }: { problem: string }) {
  return (
    <Box maxWidth="560px" margin="20vh auto" paddingX="20px">
      <Problem>{problem}</Problem>
    </Box>
  );
}
