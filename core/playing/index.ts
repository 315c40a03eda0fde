export { endsOf, Playing, playSchema, playWords, rowsOf, type Play } from './playing.ts';
export { playObjection } from './ontest.ts';
