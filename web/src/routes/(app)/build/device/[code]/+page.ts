import type { PageLoad } from './$types';

/** `new` stands for a device that is not there yet. */
export const load: PageLoad = ({ params, url }) => ({
  code: params.code === 'new' ? null : params.code.toUpperCase(),
  station: url.searchParams.get('station') ?? '',
});
