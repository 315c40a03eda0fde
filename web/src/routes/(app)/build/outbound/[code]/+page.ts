import type { PageLoad } from './$types';

/** `new` stands for an outbound that is not there yet. */
export const load: PageLoad = ({ params }) => ({ code: params.code === 'new' ? null : params.code.toUpperCase() });
