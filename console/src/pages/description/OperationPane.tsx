import { Box, Flex } from '@chakra-ui/react';
import { Fragment } from 'react';

import { Mono, PaneHead, Section, Table, Td } from '../../look/parts';
import { colorOf } from './DescriptionPage';
import { fieldsOf, saying, type Document, type Operation, type Schema } from './openapi';

/** Text with `code` in it. */
function Prose({ text }: { text: string }) {
  return text
    .split('`')
    .map((part, i) => <Fragment key={i}>{i % 2 === 1 ? <Mono color="code">{part}</Mono> : part}</Fragment>);
}

/** One operation: what it does for whom, what can be asked for, what is sent and what comes back. */
export function OperationPane({ doc, operation: op }: { doc: Document; operation: Operation }) {
  const sent = fieldsOf(doc, op.body?.schema);
  const media = op.answers.find(([status]) => status.startsWith('2'))?.[1].content?.['application/json'];
  const got = fieldsOf(doc, media?.schema);
  const tag = doc.tags?.find((t) => t.name === op.tag);
  return (
    <Box height="100%" overflow="auto" data-part="operation" tabIndex={0} role="group" aria-label="Operation">
      <Section>
        <Box as="h1" fontSize="17px" fontWeight="600">
          {op.summary}
        </Box>
        <Mono>
          <Box as="span" color={colorOf(op.method)}>
            {op.method}
          </Box>{' '}
          {op.path}
        </Mono>
        {op.deprecated && <Box color="amber">◆ Deprecated: it will go away.</Box>}
        <Box marginTop="8px">
          {tag?.description} <Prose text={op.description} />
        </Box>
      </Section>
      {op.parameters.length > 0 && (
        <>
          <PaneHead>Ask for</PaneHead>
          <Table>
            <tbody>
              {op.parameters.map((p) => (
                <tr key={`${p.in} ${p.name}`}>
                  <Td width="26%">
                    <Mono>{p.name}</Mono>
                    {p.required && <Box color="muted">required</Box>}
                  </Td>
                  <Td color="muted">
                    <Prose text={p.description ?? ''} />
                    {(p.schema?.examples ?? []).slice(0, 2).map((e) => (
                      <Mono key={String(e)} display="block" color="code">
                        {String(e)}
                      </Mono>
                    ))}
                  </Td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
      {sent && <Fields title="Send" doc={doc} schema={sent.schema} />}
      {got && <Fields title={got.rows ? 'Each row' : 'Comes back'} doc={doc} schema={got.schema} />}
    </Box>
  );
}

function Fields({ title, doc, schema }: { title: string; doc: Document; schema: Schema }) {
  const fields = Object.entries(schema.properties ?? {}).filter(([name]) => !name.startsWith('@'));
  return (
    <>
      <PaneHead note={`${String(fields.length)} fields`}>{title}</PaneHead>
      <Table>
        <tbody>
          {fields.map(([name, s]) => {
            const { type, values } = saying(doc, s);
            return (
              <tr key={name}>
                <Td width="26%">
                  <Mono>{name}</Mono>
                </Td>
                <Td width="24%" color="muted">
                  {type}
                </Td>
                <Td color="muted">
                  <Flex direction="column">
                    <Prose text={s.description ?? ''} />
                    {values && <span>{values}</span>}
                    {s.readOnly && <span>made by the service</span>}
                  </Flex>
                </Td>
              </tr>
            );
          })}
        </tbody>
      </Table>
    </>
  );
}
