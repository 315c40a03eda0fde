import { encodeLinkFrame, LinkParser, PrimaryFunction } from '../wire/link.ts';

/**
 * Finds out which devices, or which masters, are behind a connection that they made: by the addresses in their frames. Nothing is taken
 * from them; the octets go to their sessions as well.
 */
export class Caller {
  private readonly parser = new LinkParser();

  /** `deviceOf` knows a device by its own link address and the one that it sends to. */
  constructor(
    private readonly deviceOf: (source: number, destination: number) => string | undefined,
    private readonly of: 'devices' | 'masters' = 'devices',
  ) {}

  /** The devices that these octets come from. */
  push(bytes: Uint8Array): string[] {
    return this.parser.push(bytes).flatMap((event) => {
      if (event.type !== 'frame' || event.frame.fromMaster !== (this.of === 'masters')) return [];
      return this.deviceOf(event.frame.source, event.frame.destination) ?? [];
    });
  }

  /** Asks the device at that address for its link status. */
  static question(ourAddress: number, theirAddress: number): Uint8Array {
    return encodeLinkFrame({
      fromMaster: true,
      primary: true,
      countBit: false,
      countValid: false,
      functionCode: PrimaryFunction.requestLinkStatus,
      destination: theirAddress,
      source: ourAddress,
      data: new Uint8Array(0),
    });
  }
}
