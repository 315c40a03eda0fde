import type { Locator, Page } from '@playwright/test';

/** Counts what a person does: each click, each field, each key stroke with a meaning. */
export class Hands {
  count = 0;
  constructor(private readonly page: Page) {}
  async click(role: 'button' | 'link', name: string | RegExp): Promise<void> {
    this.count++;
    await this.page.getByRole(role, { name }).first().click();
  }
  async fill(label: string, text: string, scope: Page | Locator = this.page): Promise<void> {
    this.count++;
    await scope.getByLabel(label, { exact: true }).fill(text);
  }
  async choose(label: string | RegExp, value: string, scope: Page | Locator = this.page): Promise<void> {
    this.count++;
    // The text of a label around a choice has all its words.
    await scope.getByLabel(label).first().selectOption(value);
  }
  /** A file is chosen: the button and the dialog of the system count as one. */
  async file(name: string, content: string): Promise<void> {
    this.count++;
    const file = { name, mimeType: 'text/xml', buffer: Buffer.from(content) };
    await this.page.locator('input[type=file]').setInputFiles(file);
  }
  async paste(text: string): Promise<void> {
    this.count++;
    await this.page.evaluate((value) => navigator.clipboard.writeText(value), text);
    await this.page.keyboard.press('Control+v');
  }
}
