// o.js: requests by fetch; several at once are a multipart batch, which is its default.
import { o } from 'odata';
import { authorization, base, fresh, holds } from './tries.mjs';

const api = () =>
  o(`${base}/`, {
    headers: { authorization, 'Content-Type': 'application/json' },
    batch: {
      endpoint: '$batch', boundaryPrefix: 'batch_', changsetBoundaryPrefix: 'changset_', useChangset: false, useRelativeURLs: false,
      headers: new Headers({ authorization, 'Content-Type': 'multipart/mixed' }),
    },
  });

await holds('reads with filter, select, expand, orderby, top', async () => {
  const rows = await api().get('vessels').query({
    $filter: "kind eq 'tanker' and startswith(name,'G')", $select: 'name', $expand: 'agent($select=name)', $orderby: 'name', $top: 2,
  });
  return rows.length === 2 && rows.every((v) => v.name.startsWith('G') && 'agent' in v);
});
await holds('counts', async () => (await (await api().get('vessels/$count').fetch()).text()) === '400');
await holds('calls functions', async () => (await api().get('weather_log()').query({ $top: 1 })).length === 1);
await holds('creates, changes with a version, deletes', async () => {
  const made = await api().post('tugs', { name: fresh('Olive'), bollard_pull_t: 5 }).query();
  const changed = await o(`${base}/`, { headers: { authorization, 'Content-Type': 'application/json', 'If-Match': made['@etag'] } })
    .patch(`tugs(${made.id})`, { bollard_pull_t: 6.5 }).query();
  const stale = await o(`${base}/`, { headers: { authorization, 'Content-Type': 'application/json', 'If-Match': made['@etag'] } })
    .patch(`tugs(${made.id})`, { bollard_pull_t: 7 }).query().then(() => 0, (res) => res.status);
  await api().delete(`tugs(${made.id})`).query();
  return changed.bollard_pull_t === 6.5 && stale === 412;
});
await holds('sends a multipart batch', async () => {
  const [vessel, tugs] = await api().get('vessels(3)').get('tugs?$top=2').batch();
  return vessel.status === 200 && vessel.body.id === 3 && tugs.body.length === 2;
});
