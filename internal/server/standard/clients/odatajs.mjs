// odatajs: speaks version 4.0 alone, reads $metadata as XML, and sends batches as multipart messages.
import odatajs from 'odatajs/index.js';
import { authorization, base, fresh, holds } from './tries.mjs';

const { oData } = odatajs;
const headers = { Authorization: authorization, 'OData-MaxVersion': '4.0', 'OData-Version': '4.0', Accept: 'application/json' };

/** A request as a promise of its data and its response. */
const request = (r, handler) =>
  new Promise((resolve, reject) =>
    oData.request({ headers: { ...headers, ...r.headers }, ...r, headers: { ...headers, ...r.headers } },
      (data, response) => resolve({ data, response }), reject, handler));

await holds('reads with filter, select, expand', async () => {
  const { data } = await request({
    requestUri: `${base}/vessels?$filter=${encodeURIComponent("kind eq saltmere.vessel_kind'tanker'")}&$select=name&$expand=agent($select=name)&$top=2`,
  });
  return data.value.length === 2 && data['@odata.context'].includes('$metadata#vessels(name,agent(name))') && '@odata.etag' in data.value[0];
});
await holds('follows next links', async () => {
  const { data } = await request({ requestUri: `${base}/tugs?$select=id`, headers: { Prefer: 'odata.maxpagesize=2' } });
  const next = await request({ requestUri: new URL(data['@odata.nextLink'], base).href });
  return data.value.length === 2 && next.data.value.length > 0;
});
await holds('creates, changes with a version, deletes', async () => {
  const { data: made, response } = await request({ requestUri: `${base}/tugs`, method: 'POST', data: { name: fresh('Olive'), bollard_pull_t: 5 } });
  const at = `${base}/tugs(${made.id})`;
  const changed = await request({ requestUri: at, method: 'PATCH', data: { bollard_pull_t: 6.5 }, headers: { 'If-Match': response.headers.ETag } });
  const stale = await request({ requestUri: at, method: 'PATCH', data: { bollard_pull_t: 7 }, headers: { 'If-Match': response.headers.ETag } })
    .then(() => 0, (err) => err.response.statusCode);
  await request({ requestUri: at, method: 'DELETE' });
  return changed.data.bollard_pull_t === 6.5 && Number(stale) === 412;
});
await holds('sends a multipart batch with a change set', async () => {
  const { data } = await request({
    requestUri: `${base}/$batch`,
    method: 'POST',
    data: {
      __batchRequests: [
        { requestUri: 'vessels(3)', method: 'GET', headers: { Accept: 'application/json' } },
        {
          __changeRequests: [
            { requestUri: 'tugs', method: 'POST', headers: { 'Content-ID': '1', 'Content-Type': 'application/json' },
              data: { name: fresh('Change'), bollard_pull_t: 3 } },
            { requestUri: '$1', method: 'PATCH', headers: { 'Content-ID': '2', 'Content-Type': 'application/json' }, data: { bollard_pull_t: 4 } },
          ],
        },
      ],
    },
  }, oData.batch.batchHandler);
  const [read, group] = data.__batchResponses;
  return read.data.id === 3 && group.__changeResponses.length === 2 && Number(group.__changeResponses[0].statusCode) === 201;
});
