import { Box, chakra, Flex } from '@chakra-ui/react';
import { useState } from 'react';

import { useEdits, useModel, type SketchEdit } from '../../api/hooks';
import { Choice, Entry, Field, Form, MainButton, Mono, PaneHead, Problem, QuietButton, Tick } from '../../look/parts';

/** The limits that a role may have, and how each is written. */
const limits = [
  { name: 'requests', says: 'requests over a time', hint: '600/minute' },
  { name: 'concurrent', says: 'requests at once', hint: '4' },
  { name: 'rows', says: 'rows in one answer or write', hint: '1000' },
  { name: 'time', says: 'time of a statement', hint: '3s' },
  { name: 'cost', says: "cost, as the database's planner reckons", hint: '50000' },
  { name: 'depth', says: 'relations deep', hint: '3' },
] as const;

/** What a new role may do until its grants are edited: with every resource, or nothing. */
const beginnings: Record<string, Record<string, string | string[]>> = {
  'nothing yet': {},
  'read everything': { '*': 'read' },
  'read, create and update everything': { '*': ['read', 'create', 'update'] },
};

/** The types that a claim may have. */
const claimTypes = ['integer', 'text', 'uuid', 'number', 'boolean', 'date'];

interface RolePaneProps {
  window: string;
  /** Empty: a new one. */
  role: string;
  taken: string[];
  onDone: (name: string) => void;
}

/** A role: its name, what it is for, the claims that its callers need, and its limits. */
export function RolePane({ window, role, taken, onDone }: RolePaneProps) {
  const model = useModel(window);
  const save = useEdits(window);
  const known = model.data?.roles.find((r) => r.name === role);
  const [name, setName] = useState(role);
  const [about, setAbout] = useState(known?.about ?? '');
  const [anonymous, setAnonymous] = useState(known?.anonymous ?? false);
  const [claim, setClaim] = useState({ name: '', type: 'integer' });
  const [given, setGiven] = useState<Record<string, string>>(known?.limits ?? {});
  const [leaving, setLeaving] = useState(false);
  const [begin, setBegin] = useState('nothing yet');
  const at = (...path: string[]) => ['roles', name, ...path];
  const edits = (): SketchEdit[] => {
    const list: SketchEdit[] = [];
    if (!known) list.push({ at: at(), value: { may: beginnings[begin] ?? {} } });
    else if (name !== role) list.push({ at: ['roles', role], rename: name });
    if (about !== (known?.about ?? '')) list.push(about ? { at: at('about'), value: about } : { at: at('about') });
    if (anonymous !== (known?.anonymous ?? false))
      list.push(anonymous ? { at: at('anonymous'), value: true } : { at: at('anonymous') });
    if (claim.name) list.push({ at: at('claims', claim.name), value: claim.type });
    for (const l of limits) {
      const next = (given[l.name] ?? '').trim();
      if (next === (known?.limits[l.name] ?? '')) continue;
      list.push(
        next
          ? { at: at('limits', l.name), value: /^\d+$/.test(next) ? Number(next) : next }
          : { at: at('limits', l.name) },
      );
    }
    return list;
  };
  const clash = name !== role && taken.includes(name);
  return (
    <>
      <PaneHead note={known?.anonymous ? 'no token' : undefined}>{known ? <Mono>{role}</Mono> : 'Add a role'}</PaneHead>
      <Form
        gap="12px"
        padding="16px"
        onSubmit={() => {
          save.mutate(edits(), { onSuccess: () => onDone(name) });
        }}
      >
        <Field name="Name" help={clash ? `There is a role ${name} already.` : undefined}>
          <Entry name="role" fontFamily="mono" required value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
        <Field name="What it is for">
          <Entry name="about" value={about} onChange={(e) => setAbout(e.target.value)} />
        </Field>
        {!known && (
          <Field name="It may begin with">
            <Choice name="begin" value={begin} onChange={(e) => setBegin(e.target.value)}>
              {Object.keys(beginnings).map((b) => (
                <option key={b}>{b}</option>
              ))}
            </Choice>
          </Field>
        )}
        <chakra.label display="flex" gap="8px" alignItems="baseline">
          <Tick name="anonymous" checked={anonymous} onChange={(e) => setAnonymous(e.target.checked)} />
          callers without a token have this role
        </chakra.label>
        {!anonymous && (
          <Box>
            <Box color="muted">Claims that its callers need</Box>
            {known?.claims.map((c) => (
              <Box key={c.name}>
                <Mono>{c.name}</Mono> <chakra.span color="muted">{c.kind}</chakra.span>
              </Box>
            ))}
            <Flex gap="8px" marginTop="4px">
              <Entry
                aria-label="Name of another claim"
                name="claim"
                placeholder={known && known.claims.length > 0 ? 'another one' : 'such as agent_id'}
                fontFamily="mono"
                fontSize="13px"
                value={claim.name}
                onChange={(e) => setClaim({ ...claim, name: e.target.value })}
              />
              <Choice
                aria-label="Type of the claim"
                width="auto"
                value={claim.type}
                onChange={(e) => setClaim({ ...claim, type: e.target.value })}
              >
                {claimTypes.map((t) => (
                  <option key={t}>{t}</option>
                ))}
              </Choice>
            </Flex>
          </Box>
        )}
        <Box>
          <Box color="muted" marginBottom="4px">
            Limits of each caller
          </Box>
          {limits.map((l) => (
            <chakra.label key={l.name} display="flex" gap="10px" alignItems="center" marginBottom="4px">
              <Entry
                name={`limit ${l.name}`}
                width="110px"
                flex="none"
                fontFamily="mono"
                fontSize="13px"
                placeholder="none"
                value={given[l.name] ?? ''}
                onChange={(e) => setGiven({ ...given, [l.name]: e.target.value })}
              />
              <span>
                {l.says} <chakra.span color="muted">such as {l.hint}</chakra.span>
              </span>
            </chakra.label>
          ))}
        </Box>
        {save.error && <Problem>{save.error.message}</Problem>}
        {save.isSuccess && (
          <Box color="glass" role="status">
            Saved in the draft.
          </Box>
        )}
        <Flex gap="10px">
          <MainButton type="submit" disabled={save.isPending || clash || name.trim() === ''}>
            {known ? 'Save in the draft' : 'Add the role'}
          </MainButton>
          {known && (
            <QuietButton type="button" onClick={() => setLeaving(!leaving)}>
              Remove …
            </QuietButton>
          )}
        </Flex>
        {leaving && (
          <Box>
            <Box marginBottom="8px">
              The draft loses role <Mono>{role}</Mono> with its grants. Callers that have it keep it until you publish,
              and are refused then.
            </Box>
            <QuietButton
              type="button"
              color="brick"
              onClick={() => save.mutate([{ at: ['roles', role] }], { onSuccess: () => onDone('') })}
            >
              Remove {role}
            </QuietButton>
          </Box>
        )}
      </Form>
    </>
  );
}
