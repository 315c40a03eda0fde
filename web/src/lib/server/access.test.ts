import { readdirSync } from 'node:fs';
import { describe, expect, test } from 'vitest';
import { ACCESS, mayDo } from './access.ts';

const routes = new URL('../../routes', import.meta.url).pathname;
const routeIds = readdirSync(routes, { recursive: true, encoding: 'utf8' })
  .filter((file) => /\+(page|server)(\.server)?\.(svelte|ts)$/.test(file))
  .map((file) => `/${file.split('/').slice(0, -1).join('/')}`);

describe('access', () => {
  test('every route is listed, and nothing that is no route', () => {
    expect([...new Set(routeIds)].sort()).toEqual(Object.keys(ACCESS).sort());
  });

  test('a viewer sees, an operator operates, nobody does what is not listed', () => {
    expect(mayDo('viewer', '/api/live', 'GET')).toBe('yes');
    expect(mayDo('viewer', '/api/commands', 'POST')).toBe('no');
    expect(mayDo('operator', '/api/commands', 'POST')).toBe('yes');
    expect(mayDo('engineer', '/api/commands', 'POST')).toBe('yes');
    expect(mayDo('engineer', '/api/commands', 'DELETE')).toBe('no');
    expect(mayDo('engineer', '/nowhere', 'GET')).toBe('no');
    expect(mayDo(null, '/api/live', 'GET')).toBe('sign in');
    expect(mayDo(null, '/healthz', 'GET')).toBe('yes');
  });
});
