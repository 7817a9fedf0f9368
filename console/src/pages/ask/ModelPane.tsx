import { Box, chakra, Flex } from '@chakra-ui/react';

import type { Model } from '../../api/service';
import type { Sentence, Speaker } from './sentence';

interface ModelPaneProps {
  model: Model;
  sentence: Sentence;
  speaker: Speaker;
  onChange: (next: Sentence) => void;
}

/** The fields of the resource: which are in the answer, which the role may not read. */
export function ModelPane({ model, sentence: s, speaker, onChange }: ModelPaneProps) {
  const resource = model.resources.find((r) => r.name === s.resource);
  if (!resource) return null;
  const role = model.roles.find((r) => r.name === speaker.role);
  const readable = role ? (role.reads[resource.name] ?? []) : resource.fields.map((f) => f.name);
  const all = s.select.length === 0;
  const toggle = (name: string) => {
    const now = all ? readable : s.select;
    const next = now.includes(name)
      ? now.filter((n) => n !== name)
      : resource.fields.map((f) => f.name).filter((n) => now.includes(n) || n === name);
    onChange({ ...s, select: next.length === readable.length ? [] : next });
  };
  return (
    <Box overflow="auto" height="100%" fontSize="13px">
      <Flex
        align="center"
        height="36px"
        paddingX="16px"
        borderBottomWidth="1px"
        color="muted"
        fontSize="12.5px"
        gap="10px"
      >
        <chakra.span fontWeight="600">Fields</chakra.span>
        <span>
          {all ? 'all in the answer' : `${String(s.select.length)} of ${String(readable.length)} in the answer`}
        </span>
      </Flex>
      <Box padding="10px 16px">
        {resource.about && (
          <Box color="muted" marginBottom="8px">
            {resource.about}
          </Box>
        )}
        {resource.fields.map((f) => (
          <chakra.label key={f.name} display="flex" gap="8px" alignItems="baseline" paddingY="2px" title={f.about}>
            <chakra.input
              type="checkbox"
              accentColor="var(--chakra-colors-lit)"
              checked={readable.includes(f.name) && (all || s.select.includes(f.name))}
              disabled={!readable.includes(f.name)}
              onChange={() => toggle(f.name)}
            />
            <chakra.span fontFamily="mono" fontSize="12.5px" color={readable.includes(f.name) ? 'chalk' : 'faint'}>
              {f.name}
            </chakra.span>
            <chakra.span flex="1" textAlign="right" color="muted" whiteSpace="nowrap">
              {readable.includes(f.name) ? f.kind : 'not for this role'}
            </chakra.span>
          </chakra.label>
        ))}
      </Box>
    </Box>
  );
}
