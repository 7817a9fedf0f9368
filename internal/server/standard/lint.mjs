// Two linters of descriptions with the rules that they recommend: prints what they complain of, a line each. With --arazzo, suites of checks are
// looked at, which one of the two knows.
import { readFileSync } from 'node:fs';
import { createConfig, lintFromString } from '@redocly/openapi-core';
import spectral from '@stoplight/spectral-core';
import parsers from '@stoplight/spectral-parsers';
import { oas } from '@stoplight/spectral-rulesets';

const recommended = await createConfig({ extends: ['recommended'] });
const suites = process.argv[2] === '--arazzo';
for (const file of process.argv.slice(suites ? 3 : 2)) {
  const source = readFileSync(file, 'utf8');
  for (const p of await lintFromString({ source, config: recommended, absoluteRef: file }))
    console.log(`${file}: ${p.ruleId}: ${p.message} (${p.location?.[0]?.pointer ?? ''})`);
  if (suites) continue;
  const linter = new spectral.Spectral();
  linter.setRuleset({ extends: [oas] });
  for (const p of await linter.run(new spectral.Document(source, parsers.Json, file)))
    console.log(`${file}: ${p.code}: ${p.message} (${p.path.join('/')})`);
}
