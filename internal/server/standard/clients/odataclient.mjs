// odata-client: chained requests, expressions as arguments.
import odata from 'odata-client';
import { authorization, base, fresh, holds } from './tries.mjs';

const at = (resources, options = {}) => odata({ service: base, resources, version: '4.0', maxVersion: '4.0', format: 'json', ...options });
const headers = { Authorization: authorization };
const body = (res) => JSON.parse(res.body);

await holds('filters and pages', async () => {
  const { value } = body(await at('vessels').filter('gross_tonnage', '>', 1000).and('kind', '=', 'tanker').select(['id', 'name']).top(2).get({ headers }));
  return value.length === 2;
});
await holds('expands and orders', async () => {
  const { value } = body(await at('vessels').expand('agent').orderby('name', 'desc').top(1).get({ headers }));
  return value.length === 1 && 'agent' in value[0];
});
await holds('reads by key, along a relation, counts', async () => {
  const row = body(await odata({ service: base, resources: '' }).resource('vessels', 3).get({ headers }));
  const { value } = body(await odata({ service: base, resources: '' }).resource('vessels', 3).resource('port_calls').top(1).get({ headers }));
  const count = (await odata({ service: base, resources: 'vessels' }).count().get({ headers })).body;
  return row.name === 'Grey Petrel' && value.length === 1 && Number(count) === 400;
});
await holds('creates, changes, deletes', async () => {
  const made = body(await at('tugs').post({ name: fresh('Ola'), bollard_pull_t: 5 }, { headers }));
  const changed = body(await at(`tugs(${made.id})`).patch({ bollard_pull_t: 6.5 }, { headers: { ...headers, 'If-Match': made['@odata.etag'] } }));
  const gone = await at(`tugs(${made.id})`).delete({ headers });
  return changed.bollard_pull_t === 6.5 && gone.statusCode === 204;
});
