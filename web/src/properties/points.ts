import { api, got, upload } from '../api/client';
import type { Desk } from '../state/desk.svelte';
import { notices } from '../state/notices.svelte';

export const POINTS = '.usd,.usda,.usdc,.csv,.parquet,.npz';

/** Take particles out of files: as the motion of a thing, or, without one, as new emitters. */
export async function takePoints(desk: Desk, files: File[], thing = ''): Promise<void> {
  const batch = Math.random().toString(36).slice(2, 12).padEnd(10, '0');
  const base = `/api/shots/${desk.id}/points?batch=${batch}`;
  for (const file of files) await upload('PUT', `${base}&name=${encodeURIComponent(file.name)}`, file);
  const found = await got(
    api.POST('/api/shots/{shot_id}/points', {
      params: { path: { shot_id: desk.id }, query: { batch, thing } },
    }),
  );
  await desk.reload();
  notices.say(`Imported: ${found.taken.join(', ')}.`);
}
