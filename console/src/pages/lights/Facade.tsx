import { Box, chakra, Flex } from '@chakra-ui/react';

import type { Lights } from '../../api/service';
import { FourLights, Lamp, operations, saying } from './FourLights';

export interface Crossing {
  role: string;
  resource: string;
}

interface FacadeProps {
  lights: Lights;
  chosen: Crossing | null;
  onChoose: (crossing: Crossing) => void;
}

/** Roles across, resources down; each crossing is a window that shows what the role may do. */
export function Facade({ lights, chosen, onChoose }: FacadeProps) {
  return (
    <Box overflow="auto" height="100%" padding="14px 20px" data-part="facade">
      <chakra.table width="100%" borderCollapse="collapse">
        <thead>
          <tr>
            <td />
            {lights.roles.map((r) => (
              <chakra.th
                key={r.name}
                scope="col"
                fontWeight="600"
                padding="0 10px 8px"
                textAlign="center"
                title={r.about}
                whiteSpace="nowrap"
              >
                {r.name}
                <Box fontWeight="400" fontSize="12px" color="muted">
                  {r.anonymous ? 'no token' : holders(r.clients, r.accounts)}
                </Box>
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>
          {lights.resources.map((line) => (
            <chakra.tr key={line.name} borderTopWidth="1px">
              <chakra.th
                scope="row"
                fontFamily="mono"
                fontSize="13px"
                fontWeight="400"
                textAlign="left"
                paddingLeft="6px"
                whiteSpace="nowrap"
              >
                {line.name}
              </chakra.th>
              {lights.roles.map((r, i) => {
                const four = line.lights[i] ?? [];
                const open = chosen?.role === r.name && chosen.resource === line.name;
                return (
                  <chakra.td key={r.name} textAlign="center" padding="3px 0">
                    <chakra.button
                      type="button"
                      aria-label={`${r.name} on ${line.name}: ${four.map((l, n) => `${operations[n] ?? ''} ${saying[l]}`).join(', ')}`}
                      aria-pressed={open}
                      cursor="pointer"
                      lineHeight="0"
                      padding="1px"
                      outline={open ? '1px solid' : undefined}
                      outlineColor="chalk"
                      onClick={() => onChoose({ role: r.name, resource: line.name })}
                    >
                      <FourLights lights={four} />
                    </chakra.button>
                  </chakra.td>
                );
              })}
            </chakra.tr>
          ))}
        </tbody>
      </chakra.table>
      <Legend />
    </Box>
  );
}

function holders(clients: number, accounts: number): string {
  const parts: string[] = [];
  if (clients > 0) parts.push(`${String(clients)} ${clients === 1 ? 'client' : 'clients'}`);
  if (accounts > 0) parts.push(`${String(accounts)} ${accounts === 1 ? 'account' : 'accounts'}`);
  return parts.join(', ') || 'nobody yet';
}

function Legend() {
  return (
    <Flex gap="22px" fontSize="12px" color="muted" paddingTop="12px" borderTopWidth="1px" wrap="wrap">
      <span>above: create, read; below: update, delete</span>
      {(['lit', 'half', 'dark', 'none'] as const).map((l) => (
        <Flex key={l} gap="7px">
          <Lamp light={l} /> {saying[l]}
        </Flex>
      ))}
    </Flex>
  );
}
