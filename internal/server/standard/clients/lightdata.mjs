// @odata/client: entity sets, filters as objects, batches.
import client from '@odata/client';
import { authorization, base, fresh, holds } from './tries.mjs';

const { OData } = client;
const api = OData.New4({ serviceEndpoint: `${base}/`, commonHeaders: { Authorization: authorization, 'OData-MaxVersion': '4.0' } });
const tugs = api.getEntitySet('tugs');

await holds('reads with filter and top', async () => {
  const rows = await api.getEntitySet('vessels').query(api.newParam().filter(api.newFilter().property('kind').eq('tanker')).top(3).select('id'));
  return rows.length === 3;
});
await holds('reads a row by its key', async () => (await api.getEntitySet('vessels').retrieve(3)).name === 'Grey Petrel');
await holds('counts', async () => (await api.getEntitySet('vessels').count()) === 400);
await holds('creates, changes, deletes', async () => {
  const made = await tugs.create({ name: fresh('Lime'), bollard_pull_t: 5 });
  await tugs.update(made.id, { bollard_pull_t: 6.5 });
  const changed = await tugs.retrieve(made.id);
  await tugs.delete(made.id);
  return changed.bollard_pull_t === 6.5;
});
await holds('sends a batch', async () => {
  const responses = await api.execBatchRequestsJson([
    api.newBatchRequest({ collection: 'vessels', method: 'GET', id: 3 }),
    api.newBatchRequest({ collection: 'tugs', method: 'POST', entity: { name: fresh('Batch'), bollard_pull_t: 3 } }),
  ]);
  return responses.length === 2 && responses[0].status === 200 && responses[1].status === 201;
});
