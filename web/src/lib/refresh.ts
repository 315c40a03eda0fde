import { invalidate, invalidateAll } from '$app/navigation';
import { navigating } from '$app/state';

/** Loads again what depends on `what`, or everything; after a navigation under way, which it would break off. */
export async function refresh(what?: string): Promise<void> {
  await navigating.complete?.catch(() => {});
  await (what === undefined ? invalidateAll() : invalidate(what));
}
