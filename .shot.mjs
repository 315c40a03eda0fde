import { chromium } from '@playwright/test';
import { CHROMIUM } from './scripts/lib/chromium.mjs';
const [,, out, role, path, ...acts] = process.argv;
const web='http://127.0.0.1:4600';
const b=await chromium.launch(CHROMIUM); const page=await b.newPage({viewport:{width:1280,height:800}});
await page.goto(web); await page.getByLabel('Name').fill(role); await page.getByLabel('Password').fill(role+'-demo'); await page.keyboard.press('Enter'); await page.waitForURL('**/run');
await page.goto(web+path); await page.waitForTimeout(2500);
for(const a of acts){ await eval(`(async()=>{${a}})()`); await page.waitForTimeout(500);}
await page.screenshot({path:out, fullPage: out.includes('full')}); await b.close();
