import { chromium } from '@playwright/test';
import { CHROMIUM } from './scripts/lib/chromium.mjs';
const [, , who, ...steps] = process.argv;
const b = await chromium.launch(CHROMIUM);
const p = await b.newPage({ viewport: { width: 1280, height: 800 } });
p.on('pageerror', (e) => console.log('PAGEERROR', e.message));
p.on('console', (m) => m.type() === 'error' && console.log('CONSOLE', m.text()));
await p.goto('http://127.0.0.1:4600/');
await p.getByLabel('Name').fill(who); await p.getByLabel('Password').fill(`${who}-demo`); await p.keyboard.press('Enter'); await p.waitForURL('**/run');
for (const s of steps) {
  if (s.startsWith('/')) { await p.goto('http://127.0.0.1:4600' + s); await p.locator('html[data-scheme]').waitFor(); await p.waitForTimeout(1200); }
  else if (s.startsWith('shot:')) await p.screenshot({ path: `/tmp/${s.slice(5)}.png` });
  else if (s.startsWith('js:')) await eval(`(async()=>{${s.slice(3)}})()`);
}
await b.close();
