// What every client is tried with: where the service is, who calls, and a list of what held.
export const base = process.env.EAGER_API; // …/api/saltmere
export const token = process.env.EAGER_CALLER;
export const authorization = `Bearer ${token}`;

let failed = false;

/** Runs one try and prints whether it held. */
export async function holds(what, attempt) {
  try {
    const got = await attempt();
    if (got !== true) throw new Error(`got ${JSON.stringify(got)}`);
    console.log(`ok ${what}`);
  } catch (err) {
    failed = true;
    console.log(`no ${what}: ${err.message ?? err}`);
  }
}

process.on('exit', () => {
  if (failed) process.exitCode = 1;
});

/** A name that no tug has. */
export const fresh = (name) => `${name} ${process.pid}`;
