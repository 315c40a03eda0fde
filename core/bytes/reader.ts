/**
 * Reads little-endian fields out of octets. The caller knows the length before it reads (`remaining`);
 * reading past the end throws a RangeError, which is a bug of the caller and not an input error.
 */
export class ByteReader {
  private readonly view: DataView;
  offset: number;

  constructor(
    readonly bytes: Uint8Array,
    offset = 0,
  ) {
    this.view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
    this.offset = offset;
  }

  get remaining(): number {
    return this.bytes.length - this.offset;
  }

  private advance(octets: number): number {
    const at = this.offset;
    this.offset += octets;
    return at;
  }

  // Methods, not fields: a reader is made for each value of a fragment, and a field would be a function of each.
  uint8(): number {
    return this.view.getUint8(this.advance(1));
  }
  uint16(): number {
    return this.view.getUint16(this.advance(2), true);
  }
  uint32(): number {
    return this.view.getUint32(this.advance(4), true);
  }
  int16(): number {
    return this.view.getInt16(this.advance(2), true);
  }
  int32(): number {
    return this.view.getInt32(this.advance(4), true);
  }
  float32(): number {
    return this.view.getFloat32(this.advance(4), true);
  }
  float64(): number {
    return this.view.getFloat64(this.advance(8), true);
  }
  /** 48 bits without sign. */
  uint48(): number {
    return this.uint32() + this.uint16() * 0x1_0000_0000;
  }

  take(octets: number): Uint8Array {
    if (octets > this.remaining) throw new RangeError(`${octets} octets wanted, ${this.remaining} left`);
    const at = this.advance(octets);
    return this.bytes.subarray(at, at + octets);
  }
}
