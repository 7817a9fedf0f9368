import { Box, Flex } from '@chakra-ui/react';
import { useState } from 'react';

import { useWindows } from '../../api/hooks';
import { CopyButton, Entry, QuietButton, Tabs } from '../../look/parts';

const dialects = ['3.1', '3.0', '2.0', 'CSDL'] as const;
const formats = ['JSON', 'YAML'] as const;

interface HandOutProps {
  window: string;
  role: string;
  resource: string;
}

/** The address of the description, in the dialect and for the part that somebody needs: to copy, or to download. */
export function HandOut({ window, role, resource }: HandOutProps) {
  const release = useWindows().data?.find((w) => w.name === window)?.live_release ?? 0;
  const [dialect, setDialect] = useState<(typeof dialects)[number]>('3.1');
  const [format, setFormat] = useState<(typeof formats)[number]>('JSON');
  const parts = [
    'whole',
    ...(role ? [`as ${role}`] : []),
    ...(resource && resource !== 'window' ? ['one resource'] : []),
  ];
  const [chosen, setPart] = useState('whole');
  const part = parts.includes(chosen) ? chosen : 'whole';
  const query = new URLSearchParams({
    ...(dialect === '3.0' || dialect === '2.0' ? { openapi: dialect } : {}),
    ...(part === `as ${role}` ? { role } : {}),
    ...(part === 'one resource' ? { resource } : {}),
  }).toString();
  const version = release > 0 ? String(release) : 'draft';
  const file = dialect === 'CSDL' ? `csdl.${format === 'JSON' ? 'json' : 'xml'}` : `openapi.${format.toLowerCase()}`;
  const url = `${location.origin}/describe/${window}/${version}/${file}${query ? `?${query}` : ''}`;
  return (
    <Box borderTopWidth="1px" padding="12px 16px" data-part="hand-out" fontSize="13px">
      <Box as="h2" fontWeight="600">
        {release > 0 ? 'Hand out the description' : 'The draft’s description'}
      </Box>
      <Box height="26px">
        <Tabs label="Dialect" options={dialects} chosen={dialect} onChoose={setDialect} />
      </Box>
      <Box height="26px">
        <Tabs label="Format" options={formats} chosen={format} onChoose={setFormat} />
      </Box>
      <Box height="26px">
        <Tabs label="Part" options={parts} chosen={part} onChoose={setPart} />
      </Box>
      <Entry
        readOnly
        aria-label="Address"
        fontFamily="mono"
        fontSize="12px"
        height="28px"
        marginY="6px"
        value={url}
        onFocus={(e) => e.target.select()}
      />
      <Flex gap="8px" wrap="wrap">
        <CopyButton text={url} />
        <QuietButton asChild lineHeight="32px">
          <a href={url} download={`${window}-${file}`}>
            Download
          </a>
        </QuietButton>
      </Flex>
      {release > 0 && (
        <Box marginTop="8px">
          <a href={`/describe/${window}`}>
            <Box as="span" color="code">
              The page that callers read
            </Box>
          </a>
        </Box>
      )}
    </Box>
  );
}
