import '@xyflow/react/dist/style.css';

import { Box, chakra, Flex } from '@chakra-ui/react';
import {
  Handle,
  Position,
  ReactFlow,
  ReactFlowProvider,
  useReactFlow,
  type Edge,
  type Node,
  type NodeProps,
} from '@xyflow/react';
import { useMemo, useState } from 'react';
import { Link, useSearchParams } from 'wouter';

import { useModel, type Model, type Resource } from '../../api/hooks';
import { count, counted } from '../../look/format';
import {
  Choice,
  Empty,
  Entry,
  Mono,
  PaneHead,
  Panes,
  QuietButton,
  Section,
  Table,
  Td,
  Waiting,
} from '../../look/parts';
import type { PageProps } from '../../pages';
import { layOut, nodeHeight, nodeWidth } from './layout';

/** The resources and the relations between them. What a role can't read goes dark. */
export default function MapPage({ window }: PageProps) {
  const model = useModel(window);
  const [search, setSearch] = useSearchParams();
  if (!model.data) return <Waiting what="the model" error={model.error} again={() => void model.refetch()} />;
  if (model.data.resources.length === 0)
    return (
      <Empty>
        Nothing is shown yet. Choose tables under <Link href={`/tables/${window}`}>Tables</Link>.
      </Empty>
    );
  const role = model.data.roles.find((r) => r.name === search.get('role'));
  const chosen = model.data.resources.find((r) => r.name === search.get('resource'));
  const go = (next: { role?: string; resource?: string }) => {
    const all = { role: role?.name ?? '', resource: chosen?.name ?? '', ...next };
    setSearch(Object.fromEntries(Object.entries(all).filter(([, v]) => v)), { replace: true });
  };
  const dark = role ? model.data.resources.filter((r) => !role.reads[r.name]).length : 0;
  return (
    <ReactFlowProvider>
      <Panes
        panes={[
          {
            id: 'graph',
            size: chosen ? 78 : 100,
            min: 40,
            content: (
              <Flex direction="column" height="100%" data-part="map">
                <PaneHead
                  note={
                    <Flex align="center" gap="10px">
                      seen as
                      <Choice
                        aria-label="Role"
                        name="role"
                        height="24px"
                        width="auto"
                        value={role?.name ?? ''}
                        onChange={(e) => go({ role: e.target.value })}
                      >
                        <option value="">operator</option>
                        {model.data.roles.map((r) => (
                          <option key={r.name}>{r.name}</option>
                        ))}
                      </Choice>
                      {role && `${count(dark)} of ${count(model.data.resources.length)} dark`}
                    </Flex>
                  }
                  aside={<Find model={model.data} onFound={(resource) => go({ resource })} />}
                >
                  Resources and relations
                </PaneHead>
                <Box flex="1" minHeight="0">
                  <Graph
                    model={model.data}
                    role={role}
                    chosen={chosen?.name ?? ''}
                    onChoose={(resource) => go({ resource })}
                  />
                </Box>
              </Flex>
            ),
          },
          ...(chosen
            ? [
                {
                  id: 'resource',
                  size: 22,
                  min: 16,
                  content: (
                    <ResourcePane
                      window={window}
                      model={model.data}
                      resource={chosen}
                      role={role}
                      onChoose={(resource) => go({ resource })}
                    />
                  ),
                },
              ]
            : []),
        ]}
      />
    </ReactFlowProvider>
  );
}

/** Looks for a resource by its name, and moves it into sight. */
function Find({ model, onFound }: { model: Model; onFound: (resource: string) => void }) {
  const flow = useReactFlow();
  const [typed, setTyped] = useState('');
  const found = model.resources.find((r) => typed !== '' && r.name.includes(typed.trim()));
  return (
    <Flex align="center" gap="12px">
      <Entry
        aria-label="Find a resource"
        placeholder="Find …"
        height="24px"
        width="150px"
        color={typed && !found ? 'brick' : undefined}
        value={typed}
        onChange={(e) => setTyped(e.target.value)}
        onKeyDown={(e) => {
          if (e.key !== 'Enter' || !found) return;
          onFound(found.name);
          void flow.fitView({ nodes: [{ id: found.name }], maxZoom: 1.2, duration: 200 });
        }}
      />
      <Flex gap="2px">
        <Zoom label="Zoom out" onClick={() => void flow.zoomOut()}>
          −
        </Zoom>
        <Zoom label="Fit all in" onClick={() => void flow.fitView({ duration: 200 })}>
          fit
        </Zoom>
        <Zoom label="Zoom in" onClick={() => void flow.zoomIn()}>
          +
        </Zoom>
      </Flex>
    </Flex>
  );
}

function Zoom({ label, children, onClick }: { label: string; children: string; onClick: () => void }) {
  return (
    <chakra.button
      type="button"
      aria-label={label}
      padding="0 6px"
      cursor="pointer"
      _hover={{ color: 'chalk' }}
      onClick={onClick}
    >
      {children}
    </chakra.button>
  );
}

type ResourceNode = Node<{ resource: Resource; dark: boolean; chosen: boolean; onChoose: () => void }, 'resource'>;

interface GraphProps {
  model: Model;
  role: Model['roles'][number] | undefined;
  chosen: string;
  onChoose: (resource: string) => void;
}

const nodeTypes = { resource: ResourceBox };

function Graph({ model, role, chosen, onChoose }: GraphProps) {
  const drawn = useMemo(() => layOut(model), [model]);
  const isDark = (name: string) => !!role && !role.reads[name];
  const nodes: ResourceNode[] = model.resources.map((r) => ({
    id: r.name,
    type: 'resource',
    position: drawn.places.get(r.name) ?? { x: 0, y: 0 },
    width: nodeWidth,
    height: nodeHeight,
    focusable: false, // the button in it is
    data: { resource: r, dark: isDark(r.name), chosen: r.name === chosen, onChoose: () => onChoose(r.name) },
  }));
  const edges: Edge[] = drawn.lines.map((l) => {
    const off = isDark(l.from) || isDark(l.to);
    const near = l.from === chosen || l.to === chosen;
    return {
      id: `${l.from} ${l.to}`,
      source: l.from,
      target: l.to,
      focusable: false,
      style: {
        stroke: `var(--chakra-colors-${near && !off ? 'chalk' : off ? 'mullion' : 'stroke'})`,
        strokeDasharray: off ? '4 4' : undefined,
      },
    };
  });
  return (
    <ReactFlow
      nodes={nodes}
      edges={edges}
      nodeTypes={nodeTypes}
      nodesDraggable={false}
      nodesConnectable={false}
      elementsSelectable={false}
      minZoom={0.05}
      maxZoom={2}
      fitView
      fitViewOptions={{ padding: 0.06, maxZoom: 1.1 }}
      onlyRenderVisibleElements={model.resources.length > 200}
      proOptions={{ hideAttribution: true }}
      style={{ background: 'transparent' }}
    />
  );
}

function ResourceBox({ data: { resource: r, dark, chosen, onChoose } }: NodeProps<ResourceNode>) {
  const what = r.rows >= 0 ? counted(r.rows, 'row') : r.table ? 'view' : r.parameters ? 'query' : 'saved view';
  return (
    <>
      <Handle type="target" position={Position.Left} style={{ visibility: 'hidden' }} />
      <chakra.button
        type="button"
        aria-pressed={chosen}
        width={`${String(nodeWidth)}px`}
        height={`${String(nodeHeight)}px`}
        textAlign="left"
        padding="4px 10px"
        lineHeight="1.4"
        cursor="pointer"
        bg={dark ? 'ground' : 'raised'}
        borderWidth={chosen ? '2px' : '1px'}
        borderStyle={dark ? 'dashed' : 'solid'}
        borderColor={chosen ? 'lit' : 'mullion'}
        borderRadius="2px"
        pointerEvents="all"
        onClick={onChoose}
      >
        <Mono
          display="block"
          fontSize="12.5px"
          color={dark ? 'muted' : 'chalk'}
          overflow="hidden"
          textOverflow="ellipsis"
          whiteSpace="nowrap"
        >
          {r.name}
        </Mono>{' '}
        <chakra.span fontSize="12px" color={dark ? 'faint' : 'muted'}>
          {what}
          {dark && ', dark'}
        </chakra.span>
      </chakra.button>
      <Handle type="source" position={Position.Right} style={{ visibility: 'hidden' }} />
    </>
  );
}

interface ResourcePaneProps {
  window: string;
  model: Model;
  resource: Resource;
  role: Model['roles'][number] | undefined;
  onChoose: (resource: string) => void;
}

/** What a resource is, what the role sees of it, and where it leads. */
function ResourcePane({ window, model, resource: r, role, onChoose }: ResourcePaneProps) {
  const reads = role?.reads[r.name];
  const as = role ? `&as=${encodeURIComponent(role.name)}` : '';
  return (
    <Box height="100%" overflow="auto" data-part="resource" tabIndex={-1}>
      <PaneHead note={r.rows >= 0 ? counted(r.rows, 'row') : undefined}>
        <Mono>{r.name}</Mono>
      </PaneHead>
      {r.about && <Section>{r.about}</Section>}
      <Section>
        <b>{role ? `${role.name} may` : 'Operations'}</b>
        <Box color="muted">
          {!role && r.operations.join(', ')}
          {role && !reads && 'not read it'}
          {role &&
            reads &&
            (reads.length === r.fields.length
              ? 'read all of its fields'
              : `read ${count(reads.length)} of ${counted(r.fields.length, 'field')}`)}
        </Box>
      </Section>
      <Section border="none" paddingBottom="4px">
        <b>Leads to</b>
        {r.relations.length === 0 && <Box color="muted">nothing else</Box>}
      </Section>
      <Table>
        <tbody>
          {r.relations.map((rel) => {
            const dark = !!role && !role.reads[rel.to];
            const known = model.resources.some((o) => o.name === rel.to);
            return (
              <tr key={rel.name}>
                <Td>
                  <chakra.button type="button" cursor="pointer" disabled={!known} onClick={() => onChoose(rel.to)}>
                    <Mono color={dark ? 'muted' : 'chalk'}>{rel.name}</Mono>
                  </chakra.button>
                </Td>
                <Td color="muted">
                  {dark ? `dark for ${role.name}` : rel.many ? 'many' : rel.required ? 'one' : 'one or none'}
                </Td>
              </tr>
            );
          })}
        </tbody>
      </Table>
      <Flex gap="8px" padding="16px" wrap="wrap">
        <Go to={`/ask/${window}?q=${encodeURIComponent(`/${r.name}?top=20&count=true`)}${as}`}>Ask</Go>
        {r.table && <Go to={`/tables/${window}?table=${encodeURIComponent(r.table)}`}>Table</Go>}
        <Go
          to={`/lights/${window}?resource=${encodeURIComponent(r.name)}&role=${encodeURIComponent(role?.name ?? model.roles[0]?.name ?? '')}`}
        >
          Lights
        </Go>
      </Flex>
    </Box>
  );
}

function Go({ to, children }: { to: string; children: string }) {
  return (
    <QuietButton asChild lineHeight="32px">
      <Link href={to}>{children}</Link>
    </QuietButton>
  );
}
