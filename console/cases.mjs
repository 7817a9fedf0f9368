// Runs functions of the console's own modules for the tests in cases_test.go: cases as JSON in, results as JSON out.
import { readFileSync } from 'node:fs';
import process from 'node:process';

import { build } from 'vite';

const cases = JSON.parse(readFileSync(0, 'utf8'));
const modules = {};
for (const path of new Set(cases.map((c) => c.module))) {
  const built = await build({
    configFile: false,
    logLevel: 'silent',
    build: { write: false, minify: false, lib: { entry: `src/${path}`, formats: ['es'] } },
  });
  const [{ output }] = [built].flat();
  modules[path] = await import(`data:text/javascript,${encodeURIComponent(output[0].code)}`);
}
const results = cases.map(({ module, call, args }) => {
  try {
    return { value: modules[module][call](...args) ?? null };
  } catch (e) {
    return { error: String(e) };
  }
});
process.stdout.write(JSON.stringify(results));
