import { Box, chakra, Flex } from '@chakra-ui/react';
import { useRef, useState } from 'react';
import { Link } from 'wouter';

import type { Lights } from '../../api/hooks';
import { counted } from '../../look/format';
import { Entry } from '../../look/parts';
import { useRows } from '../../look/useRows';
import { FourLights, Lamp, operations, saying } from './FourLights';

export interface Crossing {
  role: string;
  resource: string;
}

interface FacadeProps {
  window: string;
  lights: Lights;
  chosen: Crossing;
  onChoose: (crossing: Crossing) => void;
}

/** The height of one line, and from how many lines on there is an entry to find one. */
const lineHeight = 41;
const many = 30;

/** Roles across, resources down; each crossing is a window that shows what the role may do. */
export function Facade({ window, lights, chosen, onChoose }: FacadeProps) {
  const scroller = useRef<HTMLDivElement>(null);
  const [typed, setTyped] = useState('');
  const lines = lights.resources.filter((l) => l.name.includes(typed.trim()));
  const { rows, before, after } = useRows(lines.length, scroller, lineHeight);
  return (
    <Flex direction="column" height="100%" data-part="facade">
      <Box ref={scroller} flex="1" minHeight="0" overflow="auto" padding="0 20px">
        <chakra.table width="100%" borderCollapse="collapse">
          <thead>
            <tr>
              <chakra.td position="sticky" top="0" bg="pane" zIndex="1" boxShadow="inset 0 -1px {colors.mullion}">
                {lights.resources.length > many && (
                  <Entry
                    aria-label="Find a resource"
                    placeholder="Find …"
                    width="180px"
                    value={typed}
                    onChange={(e) => setTyped(e.target.value)}
                  />
                )}
              </chakra.td>
              {lights.roles.map((r) => (
                <RoleHead
                  key={r.name}
                  role={r}
                  open={chosen.role === r.name}
                  onOpen={() => onChoose({ role: r.name, resource: '' })}
                />
              ))}
              <chakra.td
                position="sticky"
                top="0"
                bg="pane"
                zIndex="1"
                textAlign="right"
                boxShadow="inset 0 -1px {colors.mullion}"
              >
                <Link href={`/lights/${window}?new=role`}>
                  <chakra.span color="code" whiteSpace="nowrap">
                    + role
                  </chakra.span>
                </Link>
              </chakra.td>
            </tr>
          </thead>
          <tbody>
            {before > 0 && <chakra.tr height={`${String(before)}px`} />}
            {rows.map((i) => {
              const line = lines[i];
              return (
                line && <Line key={line.name} line={line} roles={lights.roles} chosen={chosen} onChoose={onChoose} />
              );
            })}
            {after > 0 && <chakra.tr height={`${String(after)}px`} />}
          </tbody>
        </chakra.table>
        {lines.length === 0 && (
          <Box color="muted" paddingY="12px">
            {lights.resources.length === 0 ? 'Nothing is shown yet: choose tables first.' : 'No resource is named so.'}
          </Box>
        )}
      </Box>
      <Legend />
    </Flex>
  );
}

function RoleHead({ role: r, open, onOpen }: { role: Lights['roles'][number]; open: boolean; onOpen: () => void }) {
  return (
    <chakra.th
      scope="col"
      fontWeight="600"
      padding="12px 10px 8px"
      textAlign="center"
      whiteSpace="nowrap"
      position="sticky"
      top="0"
      bg="pane"
      zIndex="1"
      boxShadow="inset 0 -1px {colors.mullion}"
    >
      <chakra.button
        type="button"
        title={r.about}
        cursor="pointer"
        aria-pressed={open}
        _hover={{ textDecoration: 'underline' }}
        onClick={onOpen}
      >
        {r.name}
      </chakra.button>
      <Box fontWeight="400" fontSize="12px" color="muted">
        {r.anonymous ? 'no token' : holders(r.clients, r.accounts)}
      </Box>
    </chakra.th>
  );
}

interface LineProps {
  line: Lights['resources'][number];
  roles: Lights['roles'];
  chosen: Crossing;
  onChoose: (crossing: Crossing) => void;
}

function Line({ line, roles, chosen, onChoose }: LineProps) {
  return (
    <chakra.tr borderTopWidth="1px" height={`${String(lineHeight)}px`}>
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
      {roles.map((r, i) => {
        const four = line.lights[i] ?? [];
        const open = chosen.role === r.name && chosen.resource === line.name;
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
      <td />
    </chakra.tr>
  );
}

function holders(clients: number, accounts: number): string {
  const parts: string[] = [];
  if (clients > 0) parts.push(counted(clients, 'client'));
  if (accounts > 0) parts.push(counted(accounts, 'account'));
  return parts.join(', ') || 'nobody yet';
}

function Legend() {
  return (
    <Flex gap="20px" fontSize="12px" color="muted" padding="8px 20px" borderTopWidth="1px" wrap="wrap">
      <span>above: create, read; below: update, delete</span>
      {(['lit', 'half', 'dark', 'none'] as const).map((l) => (
        <Flex key={l} gap="7px">
          <Lamp light={l} /> {saying[l]}
        </Flex>
      ))}
    </Flex>
  );
}
