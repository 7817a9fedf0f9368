// Reads CSDL XML from standard input with an independent reader and writes what it says as CSDL JSON.
import { readFileSync } from "node:fs";
import csdl from "odata-csdl";

const messages = [];
const json = csdl.xml2json(readFileSync(0, "utf8"), { messages });
process.stdout.write(JSON.stringify({ json, messages }));
