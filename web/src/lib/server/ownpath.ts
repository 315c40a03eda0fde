/**
 * Where to go after signing in: a path of this server, or `/run`. What leads elsewhere is judged as a browser does it, which
 * leaves out tabs and line feeds and takes a backslash for a slash.
 */
export function ownPath(to: string | null): string {
  const HERE = 'http://here';
  // eslint-disable-next-line no-control-regex
  if (to === null || !to.startsWith('/') || /[\u0000-\u0020\u007f\\]/.test(to) || !URL.canParse(to, HERE))
    return OTHERWISE;
  const { origin, pathname, search, hash } = new URL(to, HERE);
  // A path that begins with two slashes is another server.
  return origin === HERE && !pathname.startsWith('//') ? `${pathname}${search}${hash}` : OTHERWISE;
}
const OTHERWISE = '/run';
