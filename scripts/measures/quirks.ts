import * as dnp3 from '../../core/protocols/dnp3/trials/model/quirks.ts';
import * as iec61850 from '../../core/protocols/iec61850/trials/quirks.ts';
import * as modbus from '../../core/protocols/modbus/trials/model/quirks.ts';
import * as tase2 from '../../core/protocols/tase2/trials/quirks.ts';

/*
 * Our clients before devices that each behave oddly, in virtual time: how many were tried, and with how many it went
 * wrong.
 */
const trials: (readonly [name: string, run: () => string[]])[] = [
  ...dnp3.ODDITIES.map((one) => [`DNP3: ${one.name}`, () => dnp3.tryOddity(one)] as const),
  ...modbus.ODDITIES.map((one) => [`Modbus: ${one.name}`, () => modbus.tryOddity(one)] as const),
  ...iec61850.ODDITIES.map((one) => [`models: ${one.name}`, () => iec61850.tryOddity(one)] as const),
  ...tase2.ODDITIES.map((one) => [`agreements: ${one.name}`, () => tase2.tryOddity(one)] as const),
];
let wrong = 0;
for (const [name, run] of trials) {
  const problems = run();
  if (problems.length === 0) continue;
  wrong++;
  process.stderr.write(`${name}: ${problems.join('; ')}\n`);
}
const report = (figure: string, value: number, bound: number, better: string): void =>
  void process.stdout.write(`${JSON.stringify({ figure, value, unit: 'devices', bound, better })}\n`);
report('quirks.tried', trials.length, 250, 'higher');
report('quirks.wrong', wrong, 0, 'lower');
