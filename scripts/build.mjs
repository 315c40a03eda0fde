import { build } from './lib/build.mjs';

/* Bundles the programs and builds the web application, each only when its sources changed. */
await build();
