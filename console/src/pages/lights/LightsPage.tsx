import { Box } from '@chakra-ui/react';
import { useSearchParams } from 'wouter';

import { claimParams, claimsIn } from '../../claims';
import { useLights, useModel, type Lights, type Model } from '../../api/hooks';
import { Mono, PaneHead, Panes, Waiting } from '../../look/parts';
import { Facade } from './Facade';
import type { PageProps } from '../../pages';
import { GrantPane } from './GrantPane';
import { RolePane } from './RolePane';

/** Who may do what. The open crossing and the caller's claims are in the page's address. */
export default function LightsPage({ window }: PageProps) {
  const lights = useLights(window);
  const model = useModel(window);
  const [search, setSearch] = useSearchParams();
  if (!lights.data || !model.data)
    return <Waiting what="the lights" error={lights.error ?? model.error} again={() => void lights.refetch()} />;
  const role = search.get('role') ?? '';
  const resource = search.get('resource') ?? '';
  const claims = claimsIn(search);
  const known = model.data.roles.some((r) => r.name === role);
  const crossing = known && model.data.resources.some((r) => r.name === resource);
  const go = (next: Record<string, string>, kept = claims) =>
    setSearch({ ...next, ...claimParams(kept) }, { replace: true });
  return (
    <Panes
      panes={[
        {
          id: 'facade',
          size: 62,
          min: 40,
          content: (
            <Facade
              window={window}
              lights={lights.data}
              chosen={{ role, resource }}
              onChoose={(next) => go({ ...next })}
            />
          ),
        },
        {
          id: 'grant',
          size: 38,
          min: 24,
          content: (
            <Box overflow="auto" height="100%" data-part="grant">
              {crossing ? (
                <GrantPane
                  key={`${role} ${resource}`}
                  window={window}
                  model={model.data}
                  crossing={{ role, resource }}
                  claims={claims}
                  onClaims={(next) => go({ role, resource }, next)}
                />
              ) : known || search.has('new') ? (
                <RolePane
                  key={role}
                  window={window}
                  role={role}
                  taken={model.data.roles.map((r) => r.name)}
                  onDone={(name) => go(name ? { role: name } : {})}
                />
              ) : (
                <PaneHead>What a role may do</PaneHead>
              )}
              <Box padding="16px" borderTopWidth={known || search.has('new') ? '1px' : undefined}>
                {!known && !search.has('new') && (
                  <Box marginBottom="14px">Choose a crossing to see its grant, change it, and ask why.</Box>
                )}
                <Anyone lights={lights.data} model={model.data} />
              </Box>
            </Box>
          ),
        },
      ]}
    />
  );
}

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
