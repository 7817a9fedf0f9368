import { Box, chakra, Flex } from '@chakra-ui/react';
import { useState } from 'react';

import {
  useRule,
  useSetGrant,
  type Grant,
  type GrantChange,
  type Model,
  type Operation,
  type Resource,
} from '../../api/hooks';
import { Choice, Entry, MainButton, Problem, QuietButton, Tick } from '../../look/parts';
import { Lamp } from './FourLights';
import { RuleEditor } from './RuleEditor';

interface GrantEditorProps {
  window: string;
  model: Model;
  grant: Grant;
  claims: Record<string, string>;
  onDone: () => void;
}

/** One operation as it is being edited. */
interface Edited {
  granted: boolean;
  rows: string;
  fields: string[];
  set: Record<string, string>;
}

/** Changes a grant in the draft: operations, row rules, fields, values that are set. Nothing is kept until it is saved. */
export function GrantEditor({ window, model, grant, claims, onDone }: GrantEditorProps) {
  const save = useSetGrant(window, grant.role, grant.resource);
  const [edited, setEdited] = useState<Record<Operation, Edited>>(
    () => Object.fromEntries(grant.operations.map((o) => [o.operation, opened(o)])) as Record<Operation, Edited>,
  );
  const resource = model.resources.find((r) => r.name === grant.resource);
  if (!resource) return null;
  return (
    <chakra.form
      data-part="edit"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(change(grant, edited), { onSuccess: onDone });
      }}
    >
      {grant.operations
        .filter((o) => o.light !== 'none')
        .map((o) => (
          <OperationEditor
            key={o.operation}
            window={window}
            model={model}
            resource={resource}
            grant={grant}
            operation={o}
            edited={edited[o.operation]}
            claims={claims}
            onChange={(next) => setEdited({ ...edited, [o.operation]: next })}
          />
        ))}
      <Box padding="14px 16px" borderTopWidth="1px">
        {save.error && (
          <Box marginBottom="12px">
            <Problem>{save.error.message}</Problem>
          </Box>
        )}
        {grant.from === '*' && (
          <Box color="muted" marginBottom="12px">
            “*” grants this now; saving gives {grant.resource} an entry of its own.
          </Box>
        )}
        <Flex gap="10px">
          <MainButton type="submit" disabled={save.isPending}>
            Save in the draft
          </MainButton>
          <QuietButton type="button" onClick={onDone}>
            Leave as it is
          </QuietButton>
        </Flex>
      </Box>
    </chakra.form>
  );
}

function opened(o: Grant['operations'][number]): Edited {
  const granted = o.line > 0;
  return { granted, rows: o.rows, fields: granted ? o.fields : o.possible, set: o.set };
}

function change(grant: Grant, edited: Record<Operation, Edited>): GrantChange {
  const out: GrantChange = {};
  for (const o of grant.operations) {
    const e = edited[o.operation];
    if (!e.granted) continue;
    const open = o.possible.filter((f) => !(f in e.set));
    const fields = open.filter((f) => e.fields.includes(f));
    out[o.operation] = {
      rows: e.rows.trim(),
      ...(o.operation !== 'delete' && fields.length < open.length ? { fields } : {}),
      ...(Object.keys(e.set).length > 0 ? { set: e.set } : {}),
    };
  }
  return out;
}

interface OperationEditorProps {
  window: string;
  model: Model;
  resource: Resource;
  grant: Grant;
  operation: Grant['operations'][number];
  edited: Edited;
  claims: Record<string, string>;
  onChange: (next: Edited) => void;
}

function OperationEditor({
  window,
  model,
  resource,
  grant,
  operation: o,
  edited: e,
  claims,
  onChange,
}: OperationEditorProps) {
  const open = o.possible.filter((f) => !(f in e.set));
  const chosen = open.filter((f) => e.fields.includes(f));
  const light = !e.granted ? 'dark' : e.rows.trim() !== '' || chosen.length < o.possible.length ? 'half' : 'lit';
  return (
    <Box padding="10px 16px" borderTopWidth="1px">
      <chakra.label display="flex" gap="10px" fontWeight="600" cursor="pointer">
        <Lamp light={light} />
        <Tick name={o.operation} checked={e.granted} onChange={(v) => onChange({ ...e, granted: v.target.checked })} />
        {o.operation}
      </chakra.label>
      {e.granted && (
        <Box paddingLeft="22px" marginTop="6px">
          <RuleEditor
            label={`Rows of ${o.operation}`}
            text={o.rows}
            model={model}
            resource={resource}
            claims={grant.claims.map((c) => c.name)}
            onChange={(rows) => onChange({ ...e, rows })}
          />
          <Checked window={window} grant={grant} rows={e.rows} claims={claims} there={o.operation !== 'create'} />
          {o.operation !== 'delete' && (
            <FieldChoice possible={open} chosen={chosen} onChange={(fields) => onChange({ ...e, fields })} />
          )}
          {(o.operation === 'create' || o.operation === 'update') && (
            <Presets
              possible={o.possible}
              claims={grant.claims.map((c) => c.name)}
              set={e.set}
              onChange={(set) => onChange({ ...e, set })}
            />
          )}
        </Box>
      )}
    </Box>
  );
}

interface CheckedProps {
  window: string;
  grant: Grant;
  rows: string;
  claims: Record<string, string>;
  /** Whether the rule is over rows that are there, so that counting them says something. */
  there: boolean;
}

/** What the service says of a rule while it is typed. */
function Checked({ window, grant, rows, claims, there }: CheckedProps) {
  const rule = useRule(window, grant.role, grant.resource, rows, claims);
  const said = rule.data;
  if (rows.trim() === '') return <Box color="muted">every row</Box>;
  if (rule.error) return <Problem>{rule.error.message}</Problem>;
  if (said?.wrong) return <Problem>{said.wrong}</Problem>;
  if (!there || said?.rows === undefined || said.of === undefined)
    return <Box color="muted">{said ? 'valid' : '…'}</Box>;
  return (
    <Box color="muted">
      {said.rows.toLocaleString('en')} of {said.of.toLocaleString('en')} rows
    </Box>
  );
}

interface FieldChoiceProps {
  possible: string[];
  chosen: string[];
  onChange: (fields: string[]) => void;
}

function FieldChoice({ possible, chosen, onChange }: FieldChoiceProps) {
  const all = chosen.length === possible.length;
  return (
    <chakra.fieldset marginTop="6px">
      <Flex as="legend" gap="12px" color="muted">
        <span>
          {all
            ? `all ${String(possible.length)} fields`
            : `${String(chosen.length)} of ${String(possible.length)} fields`}
        </span>
        <chakra.button
          type="button"
          cursor="pointer"
          textDecoration="underline"
          onClick={() => onChange(all ? [] : possible)}
        >
          {all ? 'none' : 'all'}
        </chakra.button>
      </Flex>
      <Flex wrap="wrap" columnGap="14px">
        {possible.map((f) => (
          <chakra.label key={f} display="flex" gap="6px" alignItems="center" fontFamily="mono" fontSize="12.5px">
            <Tick
              checked={chosen.includes(f)}
              onChange={() => onChange(possible.filter((p) => chosen.includes(p) !== (p === f)))}
            />
            {f}
          </chakra.label>
        ))}
      </Flex>
    </chakra.fieldset>
  );
}

interface PresetsProps {
  possible: string[];
  claims: string[];
  set: Record<string, string>;
  onChange: (set: Record<string, string>) => void;
}

/** Values that the service sets; the caller can't send these fields. */
function Presets({ possible, claims, set, onChange }: PresetsProps) {
  return (
    <Box marginTop="6px">
      {Object.entries(set).map(([name, value]) => (
        <Flex key={name} gap="8px" align="center" marginBottom="4px" fontFamily="mono" fontSize="12.5px">
          <Box minWidth="110px">{name}</Box>
          <Entry
            aria-label={`${name} is set to`}
            height="28px"
            list={`claims of ${name}`}
            value={value}
            onChange={(e) => onChange({ ...set, [name]: e.target.value })}
          />
          <datalist id={`claims of ${name}`}>
            {claims.map((c) => (
              <option key={c} value={`@caller/${c}`} />
            ))}
          </datalist>
          <chakra.button
            type="button"
            color="muted"
            cursor="pointer"
            fontFamily="body"
            onClick={() => onChange(Object.fromEntries(Object.entries(set).filter(([n]) => n !== name)))}
          >
            leave
          </chakra.button>
        </Flex>
      ))}
      <Choice
        aria-label="Set a field"
        width="auto"
        height="28px"
        color="muted"
        value=""
        onChange={(e) => onChange({ ...set, [e.target.value]: '' })}
      >
        <option value="">set a field …</option>
        {possible
          .filter((f) => !(f in set))
          .map((f) => (
            <option key={f}>{f}</option>
          ))}
      </Choice>
    </Box>
  );
}
