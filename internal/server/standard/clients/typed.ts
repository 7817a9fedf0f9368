// A client generated from $metadata (odata2ts), compiled in strict mode: what the metadata says is what the rows are.
import { FetchClient } from "@odata2ts/http-client-fetch";
import { SaltmereService } from "./generated/SaltmereService";
import type { tugs, vessels } from "./generated/SaltmereModel";

declare const process: { env: Record<string, string | undefined>; pid: number };

const base = process.env.EAGER_API!;
const client = new FetchClient({ headers: { Authorization: `Bearer ${process.env.EAGER_CALLER}`, "OData-MaxVersion": "4.0", "OData-Version": "4.0" } });
const port = new SaltmereService(client, base);

async function holds(what: string, attempt: () => Promise<boolean>) {
  const held = await attempt().catch((err) => err);
  console.log(held === true ? `ok ${what}` : `no ${what}: ${held?.message ?? held}`);
}

async function main() {
  await holds("reads with filter, select, orderby, count", async () => {
    const { data } = await port.vessels().query((q, v) =>
      q.filter(v.kind.eq("tanker"), v.gross_tonnage.gt(500)).select("id", "name").orderBy(v.name.asc()).top(3).count());
    const rows: Pick<vessels, "id" | "name">[] = data.value;
    return rows.length === 3 && data["@odata.count"]! > 3;
  });
  await holds("expands and filters by relations", async () => {
    const { data } = await port.port_calls().query((q, p) => q.filter(p.vessel.props.name.startsWith("Grey")).expand("vessel").top(2));
    return data.value.length === 2 && data.value.every((p) => p.vessel!.name.startsWith("Grey"));
  });
  await holds("reads a row by its key, and along a relation", async () => {
    const { data } = await port.vessels(3).query();
    const calls = await port.vessels(3).port_calls().query((q) => q.top(1));
    return data.name === "Grey Petrel" && calls.data.value[0].vessel_id === 3;
  });
  await holds("creates, changes, deletes", async () => {
    const made: tugs = (await port.tugs().create({ name: `Typed ${process.pid}`, bollard_pull_t: 5 })).data!;
    await port.tugs(made.id).patch({ bollard_pull_t: 6.5 });
    const changed = (await port.tugs(made.id).query()).data;
    await port.tugs(made.id).delete();
    return changed.bollard_pull_t === 6.5;
  });
  await holds("calls functions", async () => (await port.weather_log()).data.value.length > 0);
}

main();
