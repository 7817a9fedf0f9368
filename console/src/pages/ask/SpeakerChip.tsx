import { Box, chakra } from '@chakra-ui/react';
import { Fragment, useState } from 'react';

import type { Model } from '../../api/hooks';
import { Chip, Entry, Form, MainButton, Tick } from '../../look/parts';
import { Aside, Plain } from './Clauses';
import type { Speaker } from './speaker';

interface SpeakerChipProps {
  model: Model;
  speaker: Speaker;
  onSpeaker: (s: Speaker) => void;
}

/** As whom the request is sent: the operator, or roles with the claims that they need. */
export function SpeakerChip({ model, speaker, onSpeaker }: SpeakerChipProps) {
  const claims = Object.entries(speaker.claims);
  return (
    <Chip
      label="As whom"
      choices={(close) => (
        <SpeakerForm
          model={model}
          speaker={speaker}
          onDone={(next) => {
            onSpeaker(next);
            close();
          }}
        />
      )}
    >
      {speaker.roles.length === 0 && <Plain>operator</Plain>}
      {speaker.roles.map((r, i) => (
        <Fragment key={r}>
          {i > 0 && ' and '}
          <Plain>{r}</Plain>
        </Fragment>
      ))}
      {claims.map(([name, v]) => (
        <Aside key={name}>
          {' '}
          {name} {v.length > 12 ? `${v.slice(0, 8)}…` : v}
        </Aside>
      ))}
    </Chip>
  );
}

function SpeakerForm({ model, speaker, onDone }: { model: Model; speaker: Speaker; onDone: (s: Speaker) => void }) {
  const [roles, setRoles] = useState(speaker.roles);
  const [claims, setClaims] = useState(speaker.claims);
  const needed = new Map(
    model.roles.filter((r) => roles.includes(r.name)).flatMap((r) => r.claims.map((c) => [c.name, c.kind] as const)),
  );
  const toggle = (name: string) =>
    setRoles(model.roles.map((r) => r.name).filter((r) => roles.includes(r) !== (r === name)));
  return (
    <Form
      onSubmit={() => {
        onDone({ roles, claims: Object.fromEntries([...needed.keys()].map((c) => [c, claims[c] ?? ''])) });
      }}
    >
      <Box>
        <chakra.label display="flex" gap="8px" alignItems="baseline">
          <Tick name="operator" checked={roles.length === 0} onChange={() => setRoles([])} />
          operator: all that is exposed
        </chakra.label>
        {model.roles.map((r) => (
          <chakra.label key={r.name} display="flex" gap="8px" alignItems="baseline">
            <Tick name={`role ${r.name}`} checked={roles.includes(r.name)} onChange={() => toggle(r.name)} />
            <span>
              {r.name}
              {r.anonymous && <chakra.span color="muted">, without a token</chakra.span>}
            </span>
          </chakra.label>
        ))}
      </Box>
      {[...needed].map(([name, kind]) => (
        <label key={name}>
          <chakra.span fontFamily="mono" fontSize="13px">
            {name}
          </chakra.span>
          , {kind}
          <Entry
            name={name}
            required
            value={claims[name] ?? ''}
            onChange={(e) => setClaims({ ...claims, [name]: e.target.value })}
          />
        </label>
      ))}
      <MainButton type="submit" alignSelf="flex-start">
        Ask as {roles.join(' and ') || 'operator'}
      </MainButton>
    </Form>
  );
}
