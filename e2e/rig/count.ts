import type { Rig } from './rig.ts';

export interface Logged {
  kind: string;
  index: number;
  value: number;
  time: number;
  state: 'waiting' | 'delivered' | 'gone';
}

/**
 * Compares the events that the relay made, by its own log, with what is in history: how many were made, and which are
 * missing or stored more often than made. Waits until no more arrive.
 */
export async function countEvents(
  rig: Rig,
  device = 'HLM-F1',
): Promise<{ made: number; lost: string[]; repeated: string[] }> {
  const log = await rig.bench<Logged[]>('GET', `/devices/${device}/log`);
  const last = new Date(log[log.length - 1].time);
  const handedOver = log.filter(({ state }) => state !== 'gone');
  const stored = async (): Promise<number> =>
    (await rig.sql`select count(*)::int as stored from reading where cause = 1 and time <= ${last}`)[0]
      .stored as number;
  // Counters are asked for every five seconds.
  await rig
    .until('all events are stored', async () => (await stored()) >= handedOver.length, 20_000 + handedOver.length)
    .catch(() => {});
  await new Promise((resolve) => setTimeout(resolve, 1500));
  return { made: log.length, ...(await compareEvents(rig, log, device)) };
}

/** Which events of a device's log are missing in history, and which are stored more often than made. */
export async function compareEvents(
  rig: Rig,
  log: readonly Logged[],
  device: string,
): Promise<{ lost: string[]; repeated: string[] }> {
  const rows = await rig.sql`
    select kind, split_part(address, ' ', 2)::int as index, raw, (extract(epoch from time) * 1000)::float8 as time, count(*)::int as times
    from reading join point_identity on id = point_id where cause = 1 and device = ${device} group by kind, address, raw, time`;
  const kept = new Map(
    rows.map((r) => [`${r.kind} ${r.index} ${r.raw} ${Math.round(r.time as number)}`, r.times as number]),
  );
  const made = new Map<string, number>();
  const due = new Map<string, number>();
  const count = (map: Map<string, number>, key: string): void => void map.set(key, (map.get(key) ?? 0) + 1);
  for (const { kind, index, value, time, state } of log) {
    const key = `${kind} ${index} ${value} ${time}`;
    count(made, key);
    // What went with the device's power was never handed over.
    if (state !== 'gone') count(due, key);
  }
  return {
    lost: [...due].filter(([key, times]) => (kept.get(key) ?? 0) < times).map(([key]) => key),
    repeated: [...made].filter(([key, times]) => (kept.get(key) ?? 0) > times).map(([key]) => key),
  };
}
