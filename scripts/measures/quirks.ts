import { ODDITIES, tryOddity } from '../../core/protocols/dnp3/trials/model/quirks.ts';

/* Our master before devices that each behave oddly, in virtual time: how many were tried, and with how many it went wrong. */
let wrong = 0;
for (const oddity of ODDITIES) {
  const problems = tryOddity(oddity);
  if (problems.length === 0) continue;
  wrong++;
  process.stderr.write(`${oddity.name}: ${problems.join('; ')}\n`);
}
const report = (figure: string, value: number, bound: number, better: string): void =>
  void process.stdout.write(`${JSON.stringify({ figure, value, unit: 'devices', bound, better })}\n`);
report('quirks.tried', ODDITIES.length, 80, 'higher');
report('quirks.wrong', wrong, 0, 'lower');
