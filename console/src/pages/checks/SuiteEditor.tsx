import { yaml } from '@codemirror/lang-yaml';
import { lineNumbers } from '@codemirror/view';
import { Box, Flex } from '@chakra-ui/react';
import { useState } from 'react';

import { Refused, type Schemas } from '../../api/client';
import { useNewSuite, useSuiteWork } from '../../api/hooks';
import { Editor } from '../../look/Editor';
import { useKeptText } from '../../look/useKeptText';
import { Entry, Field, MainButton, Pane, Problem, QuietButton, Section } from '../../look/parts';

interface SuiteEditorProps {
  window: string;
  /** Left out: a new one. */
  suite: Schemas['Suite'] | undefined;
  onDone: (suite: string) => void;
}

/** A suite as text (Arazzo): saved if it has no mistakes; else they are shown at their lines. */
export function SuiteEditor({ window, suite, onDone }: SuiteEditorProps) {
  return suite ? <Text window={window} suite={suite} onDone={onDone} /> : <NewSuite window={window} onDone={onDone} />;
}

const extensions = [yaml(), lineNumbers()];

function Text({ window, suite, onDone }: SuiteEditorProps & { suite: Schemas['Suite'] }) {
  const work = useSuiteWork(window);
  const [text, setText] = useKeptText(`eager-suite ${window} ${suite.name}`, suite.text ?? '');
  const [leaving, setLeaving] = useState(false);
  const save = () => work.save.mutate({ name: suite.name, text });
  const failure = work.save.error ?? work.remove.error;
  return (
    <Flex direction="column" height="100%" data-part="suite-text">
      <Box flex="1" minHeight="0">
        <Pane title={suite.name} note="Arazzo 1.0.1">
          <Editor
            label="Suite"
            text={text}
            onChange={setText}
            onSubmit={save}
            extensions={extensions}
            mistakes={work.save.error instanceof Refused ? work.save.error.mistakes : []}
            height="100%"
          />
        </Pane>
      </Box>
      <Section borderBottomWidth="0" borderTopWidth="1px">
        {failure && (
          <Box marginBottom="10px">
            <Problem>{failure.message}</Problem>
          </Box>
        )}
        {work.save.isSuccess && !failure && (
          <Box color="glass" role="status" marginBottom="10px">
            Saved.
          </Box>
        )}
        <Flex gap="8px" wrap="wrap">
          <MainButton type="button" disabled={work.save.isPending || text === suite.text} onClick={save}>
            Save suite
          </MainButton>
          <QuietButton type="button" onClick={() => onDone(suite.name)}>
            Close
          </QuietButton>
          {leaving ? (
            <QuietButton
              type="button"
              color="brick"
              onClick={() => work.remove.mutate(suite.name, { onSuccess: () => onDone('') })}
            >
              Remove {suite.name} and its checks
            </QuietButton>
          ) : (
            <QuietButton type="button" onClick={() => setLeaving(true)}>
              Remove …
            </QuietButton>
          )}
        </Flex>
      </Section>
    </Flex>
  );
}

function NewSuite({ window, onDone }: { window: string; onDone: (suite: string) => void }) {
  const make = useNewSuite(window);
  const [name, setName] = useState('');
  return (
    <Pane title="A new suite">
      <Section border="none">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate({ name }, { onSuccess: () => onDone(name) });
          }}
        >
          <Field
            name="Name"
            help="It begins with a row that comes and goes; edit it from there. Requests of Ask can be kept as checks, too."
          >
            <Entry
              name="suite"
              fontFamily="mono"
              required
              placeholder="a-visit"
              value={name}
              onChange={(e) => setName(e.target.value)}
            />
          </Field>
          {make.error && <Problem>{make.error.message}</Problem>}
          <Flex gap="8px" marginTop="12px">
            <MainButton type="submit" disabled={make.isPending}>
              Make it
            </MainButton>
            <QuietButton type="button" onClick={() => onDone('')}>
              Cancel
            </QuietButton>
          </Flex>
        </form>
      </Section>
    </Pane>
  );
}
