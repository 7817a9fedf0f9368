import { Box, Splitter } from '@chakra-ui/react';
import { useSearchParams } from 'wouter';

import { useLights, useModel, type Lights, type Model } from '../../api/service';
import { Edge, Mono, PaneHead, Waiting } from '../../look/parts';
import { Facade } from './Facade';
import { GrantPane } from './GrantPane';

/** Who may do what. The open crossing and the caller's claims stand in the page's address. */
export function LightsPage({ window }: { window: string }) {
  const lights = useLights(window);
  const model = useModel(window);
  const [search, setSearch] = useSearchParams();
  if (!lights.data || !model.data) return <Waiting what="the lights" error={lights.error ?? model.error} />;
  const role = search.get('role') ?? '';
  const resource = search.get('resource') ?? '';
  const claims = Object.fromEntries([...search.entries()].filter(([name]) => !own.includes(name)));
  const known = model.data.roles.some((r) => r.name === role) && model.data.resources.some((r) => r.name === resource);
  return (
    <Splitter.Root
      panels={[
        { id: 'facade', minSize: 40 },
        { id: 'grant', minSize: 24 },
      ]}
      defaultSize={[62, 38]}
      height="100%"
    >
      <Splitter.Panel id="facade">
        <Facade
          lights={lights.data}
          chosen={known ? { role, resource } : null}
          onChoose={(next) => setSearch({ ...claims, ...next }, { replace: true })}
        />
      </Splitter.Panel>
      <Edge between="facade:grant" />
      <Splitter.Panel id="grant">
        <Box overflow="auto" height="100%" data-part="grant">
          {known ? (
            <GrantPane
              key={`${role} ${resource}`}
              window={window}
              model={model.data}
              crossing={{ role, resource }}
              claims={claims}
              onClaims={(next) => setSearch({ role, resource, ...next }, { replace: true })}
            />
          ) : (
            <PaneHead>What a role may do</PaneHead>
          )}
          <Box padding="16px" borderTopWidth={known ? '1px' : undefined}>
            {!known && <Box marginBottom="14px">Choose a crossing to see its grant, change it, and ask why.</Box>}
            <Anyone lights={lights.data} model={model.data} />
          </Box>
        </Box>
      </Splitter.Panel>
    </Splitter.Root>
  );
}

/** What of the page's address is not a claim. */
const own = ['role', 'resource'];

/** What everyone reaches without a token. */
function Anyone({ lights, model }: { lights: Lights; model: Model }) {
  const at = lights.roles.findIndex((r) => r.anonymous);
  const reads = model.roles[at]?.reads ?? {};
  const open = lights.resources
    .map((line) => ({
      name: line.name,
      may: ['create', 'read', 'update', 'delete'].filter((_, i) =>
        ['half', 'lit'].includes(line.lights[at]?.[i] ?? ''),
      ),
    }))
    .filter((line) => line.may.length > 0);
  return (
    <>
      <Box fontWeight="600">What anyone without a token can reach</Box>
      {open.length === 0 && <Box color="muted">Nothing.</Box>}
      {open.map((line) => (
        <Box key={line.name} color={line.may.some((m) => m !== 'read') ? 'amber' : 'muted'}>
          <Mono color="chalk">{line.name}</Mono>: {line.may.join(', ')}
          {reads[line.name] ? `, ${String(reads[line.name]?.length)} fields` : ''}
        </Box>
      ))}
      {open.length > 0 && <Box color="muted">Nothing else.</Box>}
    </>
  );
}
