import { Box, chakra, Flex } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { useSearchParams } from 'wouter';

import { described, useModel } from '../../api/hooks';
import { count } from '../../look/format';
import { Choice, Empty, Entry, Mono, PaneHead, Panes, Tabs, TextButton, Waiting } from '../../look/parts';
import type { PageProps } from '../../pages';
import { HandOut } from './HandOut';
import { operations, type Document, type Operation } from './openapi';
import { OperationPane } from './OperationPane';
import { OverlayPane } from './OverlayPane';
import { TryPane } from './TryPane';

const views = ['Reference', 'Overlay'] as const;

/** The description as callers read it, by role; what is patched into it; how to hand it out. */
export default function DescriptionPage({ window }: PageProps) {
  const [search, setSearch] = useSearchParams();
  const model = useModel(window);
  const role = search.get('role') ?? '';
  const view = views.find((v) => v === search.get('view')) ?? 'Reference';
  const description = useQuery(described<Document>(window, role));
  const [preview, setPreview] = useState<{ of: string; doc: Document } | null>(null);
  const shown = preview?.of === role ? preview.doc : description.data;
  const all = useMemo(() => (shown ? operations(shown) : new Map<string, Operation[]>()), [shown]);
  if (!shown)
    return <Waiting what="the description" error={description.error} again={() => void description.refetch()} />;
  const list = [...all.values()].flat();
  const op = list.find((o) => o.id === search.get('operation')) ?? list[0];
  const go = (next: Record<string, string>) =>
    setSearch(
      Object.fromEntries(
        Object.entries({ role, view, operation: op?.id ?? '', ...next }).filter(
          ([n, v]) => v !== '' && (n !== 'view' || v !== 'Reference'),
        ),
      ),
      { replace: true },
    );
  return (
    <Panes
      panes={[
        {
          id: 'operations',
          size: 22,
          min: 16,
          content: (
            <Flex direction="column" height="100%" data-part="operations">
              <PaneHead
                aside={count(list.length)}
                note={
                  <Choice
                    aria-label="Role"
                    name="role"
                    height="24px"
                    width="auto"
                    value={role}
                    onChange={(e) => go({ role: e.target.value })}
                  >
                    <option value="">operator</option>
                    {model.data?.roles.map((r) => (
                      <option key={r.name}>{r.name}</option>
                    ))}
                  </Choice>
                }
              >
                As
              </PaneHead>
              <Operations all={all} chosen={op?.id} onChoose={(id) => go({ operation: id, view: 'Reference' })} />
              <HandOut window={window} role={role} resource={op?.tag ?? ''} />
            </Flex>
          ),
        },
        {
          id: 'operation',
          size: 46,
          min: 30,
          content: (
            <Flex direction="column" height="100%">
              <Box height="36px" flex="none" paddingX="16px" borderBottomWidth="1px" fontSize="12.5px">
                <Flex gap="18px" height="100%" align="center">
                  <Tabs label="View" options={views} chosen={view} onChoose={(v) => go({ view: v })} />
                  {shown !== description.data && (
                    <>
                      <chakra.span color="amber">◆ with the overlay as it is typed, not saved</chakra.span>
                      <TextButton onClick={() => setPreview(null)}>as it is saved</TextButton>
                    </>
                  )}
                </Flex>
              </Box>
              <Box flex="1" minHeight="0">
                {view === 'Overlay' ? (
                  <OverlayPane
                    window={window}
                    role={role}
                    onPreview={(doc) => {
                      setPreview({ of: role, doc });
                      go({ view: 'Reference' });
                    }}
                  />
                ) : op ? (
                  <OperationPane key={op.id} doc={shown} operation={op} />
                ) : (
                  <Empty>
                    This role may do nothing, so there is nothing to describe. Give it something under Lights.
                  </Empty>
                )}
              </Box>
            </Flex>
          ),
        },
        {
          id: 'try',
          size: 32,
          min: 20,
          content: op ? (
            <TryPane
              key={`${op.id} ${role}`}
              window={window}
              doc={shown}
              operation={op}
              role={role}
              claims={model.data?.roles.find((r) => r.name === role)?.claims ?? []}
            />
          ) : (
            <Empty>–</Empty>
          ),
        },
      ]}
    />
  );
}

interface OperationsProps {
  all: Map<string, Operation[]>;
  chosen: string | undefined;
  onChoose: (id: string) => void;
}

export const colorOf = (method: string) => (method === 'GET' ? 'glass' : method === 'DELETE' ? 'brick' : 'amber');

/** The operations by resource, found by their words. */
function Operations({ all, chosen, onChoose }: OperationsProps) {
  const [typed, setTyped] = useState('');
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const found = (o: Operation) =>
    words.every((w) => `${o.summary} ${o.path} ${o.method} ${o.tag}`.toLowerCase().includes(w));
  return (
    <>
      <Box padding="8px 14px" borderBottomWidth="1px">
        <Entry
          aria-label="Find an operation"
          placeholder="Find …"
          height="28px"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
      </Box>
      <Box flex="1" minHeight="0" overflow="auto" fontSize="13px" paddingY="6px" tabIndex={-1}>
        {[...all].map(([tag, list]) => {
          const shown = list.filter(found);
          return (
            shown.length > 0 && (
              <chakra.section key={tag} css={{ contentVisibility: 'auto' }}>
                <Mono display="block" padding="6px 16px 2px" fontWeight="600">
                  {tag}
                </Mono>
                {shown.map((o) => (
                  <chakra.button
                    key={o.id}
                    type="button"
                    display="flex"
                    gap="8px"
                    width="100%"
                    padding="2px 16px 2px 26px"
                    textAlign="left"
                    cursor="pointer"
                    bg={o.id === chosen ? 'sel' : undefined}
                    _hover={{ bg: o.id === chosen ? 'sel' : 'raised' }}
                    aria-pressed={o.id === chosen}
                    onClick={() => onChoose(o.id)}
                  >
                    <chakra.span flex="1">{o.summary}</chakra.span>
                    <Mono color={colorOf(o.method)}>{o.method}</Mono>
                  </chakra.button>
                ))}
              </chakra.section>
            )
          );
        })}
      </Box>
    </>
  );
}
