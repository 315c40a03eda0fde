import type { Rig } from './rig.ts';

interface Logged {
  kind: string;
  index: number;
  value: number;
  time: number;
}

/**
 * Compares the events that the relay made, by its own log, with what is in history: how many were made, and which are
 * missing or stored more often than made. Waits until no more arrive.
 */
export async function countEvents(rig: Rig): Promise<{ made: number; lost: string[]; repeated: string[] }> {
  const log = await rig.bench<Logged[]>('GET', '/devices/HLM-F1/log');
  const last = new Date(log[log.length - 1].time);
  const stored = async (): Promise<number> =>
    (await rig.sql`select count(*)::int as stored from reading where cause = 1 and time <= ${last}`)[0]
      .stored as number;
  // Counters are asked for every five seconds.
  await rig.until('all events are stored', async () => (await stored()) >= log.length, 20_000).catch(() => {});
  await new Promise((resolve) => setTimeout(resolve, 1500));
  const rows = await rig.sql`
    select kind, index, raw, (extract(epoch from time) * 1000)::float8 as time, count(*)::int as times
    from reading join point_identity on id = point_id where cause = 1 group by kind, index, raw, time`;
  const kept = new Map(
    rows.map((r) => [`${r.kind} ${r.index} ${r.raw} ${Math.round(r.time as number)}`, r.times as number]),
  );
  const made = new Map<string, number>();
  for (const { kind, index, value, time } of log) {
    const key = `${kind} ${index} ${value} ${time}`;
    made.set(key, (made.get(key) ?? 0) + 1);
  }
  return {
    made: log.length,
    lost: [...made].filter(([key, times]) => (kept.get(key) ?? 0) < times).map(([key]) => key),
    repeated: [...made].filter(([key, times]) => (kept.get(key) ?? 0) > times).map(([key]) => key),
  };
}
