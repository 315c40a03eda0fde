import { goto } from '$app/navigation';
import { navigating, page } from '$app/state';

/**
 * For what takes a while and then goes on to another page, to be called before it: whoever has gone elsewhere meanwhile, or
 * is on the way, is left there.
 */
export function onward(): (href: string) => Promise<void> {
  const from = page.url.href;
  return async (href) => {
    if (page.url.href === from && navigating.to === null) await goto(href);
  };
}
