import { invalidate, invalidateAll } from '$app/navigation';
import { navigating } from '$app/state';

/**
 * Loads again what depends on `what`, or everything; after a navigation under way, which it would break off. While the
 * server cannot load anything it is left alone: what is on the screen stays there, and a later round brings the rest.
 */
export async function refresh(what?: string): Promise<void> {
  do {
    await navigating.complete?.catch(() => {});
    if (!(await serverLoads())) return;
    // Somebody may have gone on meanwhile.
  } while (navigating.complete !== null);
  await (what === undefined ? invalidateAll() : invalidate(what));
}

const serverLoads = (): Promise<boolean> =>
  fetch('/healthz')
    .then((answer) => answer.json())
    .then(
      ({ database }: { database?: boolean }) => database === true,
      () => false,
    );
