import { build } from './lib/build.mjs';
import { installNpm } from './lib/install.mjs';
import { ROOT, run } from './lib/run.mjs';
import { fail } from './lib/say.mjs';

/* `npm run fuzz [-- STREAMS [SEED]]`; see scripts/measures/fuzz.ts. */
try {
  await installNpm();
  await build({ web: false });
  const program = ['--expose-gc', '--enable-source-maps', `${ROOT}/dist/fuzz.js`, ...process.argv.slice(2)];
  const { code } = await run(process.execPath, program, { show: true, allowFailure: true });
  process.exitCode = code;
} catch (error) {
  fail(error);
}
