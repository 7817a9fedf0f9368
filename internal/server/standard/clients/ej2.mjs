// ej2-data: a data manager as grids use it; saves are multipart batches.
// The library was made for browsers.
globalThis.window ??= globalThis;
import ej2 from '@syncfusion/ej2-data/dist/ej2-data.umd.min.js';
import { authorization, base, fresh, holds } from './tries.mjs';

const { DataManager, ODataV4Adaptor, Query } = ej2;
const manager = (resource) => new DataManager({ url: `${base}/${resource}`, adaptor: new ODataV4Adaptor(), headers: [{ Authorization: authorization }], crossDomain: true });

await holds('filters, sorts, pages, counts', async () => {
  const { result, count } = await manager('vessels').executeQuery(
    new Query().where('kind', 'equal', 'tanker').sortBy('name').page(1, 5).select(['id', 'name']).requiresCount());
  return result.length === 5 && count > 50;
});
await holds('searches', async () => (await manager('vessels').executeQuery(new Query().search('grey', ['name']).take(3))).result.length === 3);
await holds('saves added, changed and deleted rows as multipart batches', async () => {
  const [added, changed] = [fresh('Saved'), fresh('Changed')];
  const save = (changes) => manager('').saveChanges({ addedRecords: [], changedRecords: [], deletedRecords: [], ...changes }, 'id', 'tugs', new Query().from('tugs'));
  const found = async (name) => (await manager('tugs').executeQuery(new Query().where('name', 'equal', name))).result;
  await save({ addedRecords: [{ name: added, bollard_pull_t: 3 }] });
  const [{ id }] = await found(added);
  await save({ changedRecords: [{ id, name: changed, bollard_pull_t: 4 }] });
  const [after] = await found(changed);
  await save({ deletedRecords: [{ id }] });
  return after.id === id && after.bollard_pull_t === 4 && (await found(changed)).length === 0;
});
