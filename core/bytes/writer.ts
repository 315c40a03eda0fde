/** Writes little-endian fields into a growing buffer. */
export class ByteWriter {
  private buffer: Uint8Array;
  private view: DataView;
  length = 0;

  constructor(capacity = 64) {
    this.buffer = new Uint8Array(capacity);
    this.view = new DataView(this.buffer.buffer);
  }

  private advance(octets: number): number {
    const at = this.length;
    this.length += octets;
    if (this.length > this.buffer.length) {
      const grown = new Uint8Array(Math.max(this.length, this.buffer.length * 2));
      grown.set(this.buffer);
      this.buffer = grown;
      this.view = new DataView(grown.buffer);
    }
    return at;
  }

  uint8(value: number): this {
    const at = this.advance(1);
    this.view.setUint8(at, value);
    return this;
  }
  uint16(value: number): this {
    const at = this.advance(2);
    this.view.setUint16(at, value, true);
    return this;
  }
  uint32(value: number): this {
    const at = this.advance(4);
    this.view.setUint32(at, value, true);
    return this;
  }
  int16(value: number): this {
    const at = this.advance(2);
    this.view.setInt16(at, value, true);
    return this;
  }
  int32(value: number): this {
    const at = this.advance(4);
    this.view.setInt32(at, value, true);
    return this;
  }
  float32(value: number): this {
    const at = this.advance(4);
    this.view.setFloat32(at, value, true);
    return this;
  }
  float64(value: number): this {
    const at = this.advance(8);
    this.view.setFloat64(at, value, true);
    return this;
  }
  uint48(value: number): this {
    return this.uint32(value % 0x1_0000_0000).uint16(Math.floor(value / 0x1_0000_0000));
  }
  bytes(value: Uint8Array): this {
    const at = this.advance(value.length);
    this.buffer.set(value, at);
    return this;
  }
  /** Overwrites an octet written before, e.g. a count known only later. */
  patchUint8(at: number, value: number): void {
    this.view.setUint8(at, value);
  }
  patchUint16(at: number, value: number): void {
    this.view.setUint16(at, value, true);
  }
  /** Forgets everything from `length` on. */
  truncate(length: number): void {
    this.length = length;
  }
  finish(): Uint8Array {
    return this.buffer.slice(0, this.length);
  }
}
