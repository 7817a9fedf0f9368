// A client library of the standard reads a service: its metadata first, then a collection page by page with what the arguments
// ask for. It writes what it found as JSON.
import odatajs from "jaydata-odatajs";

const [root, token, query] = process.argv.slice(2);

// The library brings a transport for browsers; in Node.js it takes one that uses fetch.
const transport = {
  request({ requestUri, method, headers, body }, success, error) {
    fetch(requestUri, { method, headers: { ...headers, Authorization: `Bearer ${token}` }, body })
      .then(async (r) => {
        const answer = { requestUri, statusCode: r.status, statusText: r.statusText, headers: {}, body: await r.text() };
        for (const [name, value] of r.headers) answer.headers[canonical(name)] = value;
        (r.ok ? success : error)(answer);
      })
      .catch(error);
  },
};

const canonical = (name) => ({ "content-type": "Content-Type", "odata-version": "OData-Version" })[name] ?? name;

const read = (uri, handler, metadata) =>
  new Promise((resolve, reject) =>
    odatajs.oData.read({ requestUri: uri, headers: { "OData-MaxVersion": "4.0" } }, resolve, reject, handler, transport, metadata),
  );

const metadata = await read(`${root}/$metadata`, odatajs.oData.metadataHandler);
const [schema] = metadata.dataServices.schema;
// With the metadata at hand the library gives rows their types and links; it can't yet do so for what is expanded.
const typed = await read(`${root}/tugs?$top=1`, odatajs.oData.jsonHandler, metadata);
const rows = [];
let pages = 0;
let count;
for (let next = `${root}/${query}`; next; pages++) {
  const page = await read(new URL(next, root).href, odatajs.oData.jsonHandler);
  count ??= page["@odata.count"];
  rows.push(...page.value);
  next = page["@odata.nextLink"];
}
process.stdout.write(
  JSON.stringify({
    namespace: schema.namespace,
    sets: schema.entityContainer.entitySet.map((s) => s.name),
    keys: Object.fromEntries(schema.entityType.map((t) => [t.name, t.key?.[0]?.propertyRef.map((k) => k.name)])),
    typed: typed.value[0],
    count,
    pages,
    rows,
  }),
);
