import type { DeviceConfig } from '@halvix/core/config';
import type { ClientPoint, PointAt, Source, Contacts } from '@halvix/core/protocols';
import { sourceSide } from '@halvix/core/protocols/sessions';
import { clock } from '@halvix/wire';
import { Ingest, type IngestContext } from '../board/ingest.ts';

const LOOK_MS = 250;

/** A device without a link: its points tell what is known here. */
export class SourceRunner {
  private readonly ingest: Ingest;
  private readonly source: Source;
  private timer: NodeJS.Timeout | null = null;

  constructor(
    readonly config: DeviceConfig,
    private readonly standing: Contacts,
    context: IngestContext,
  ) {
    this.ingest = new Ingest(config, context);
    const points = context.exchange
      .ofDevice(config.code)
      .map(({ id, config: { kind, at } }): ClientPoint<PointAt> => ({ id, kind, at }));
    this.source = sourceSide(config.protocol).make(points);
  }

  start(): void {
    this.look();
    this.timer = setInterval(() => this.look(), LOOK_MS);
  }

  stop(): void {
    if (this.timer !== null) clearInterval(this.timer);
  }

  private look(): void {
    const measured = this.source.look(this.standing, clock.now());
    if (measured.length > 0) this.ingest.take(measured, sourceSide(this.config.protocol).carrying, null);
  }
}
