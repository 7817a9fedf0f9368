// ts-odata-client: queries by lambdas.
import { ODataQuery } from 'ts-odata-client';
import { authorization, base, holds } from './tries.mjs';

const options = { requestInit: () => ({ headers: { Authorization: authorization, 'OData-MaxVersion': '4.0' } }) };
const vessels = () => ODataQuery.forV4(`${base}/vessels`, options);

await holds('filters, selects, orders', async () => {
  const { value } = await vessels().filter((v) => v.name.$startsWith('Grey').and(v.gross_tonnage.$greaterThan(500))).select('id', 'name')
    .orderBy((v) => v.name).top(3).getManyAsync();
  return value.length === 3 && value.every((v) => v.name.startsWith('Grey'));
});
await holds('expands', async () => {
  const { value } = await vessels().expand('agent').top(2).getManyAsync();
  return value.length === 2 && 'agent' in value[0];
});
await holds('pages', async () => {
  const { value } = await vessels().select('id').orderBy((v) => v.id).skip(100).top(50).getManyAsync();
  return value.length === 50 && new Set(value.map((v) => v.id)).size === 50;
});
await holds('counts', async () => (await vessels().top(1).getManyWithCountAsync())['@odata.count'] === 400);
await holds('reads one row', async () => (await vessels().getAsync(3)).name === 'Grey Petrel');
await holds('compares with collections', async () => {
  const { value } = await vessels().filter((v) => v.port_calls.$any((p) => p.hazardous.$equals(true))).top(1).getManyAsync();
  return value.length === 1;
});
