/* SHA-256 as in FIPS 180-4, section 6.2: the core needs it at once (Web Crypto only promises it) and depends on nothing. */

const primes: number[] = [];
for (let n = 2; primes.length < 64; n++) if (primes.every((p) => n % p !== 0)) primes.push(n);

const fraction = (x: number) => ((x - Math.floor(x)) * 2 ** 32) | 0;
const START = primes.slice(0, 8).map((p) => fraction(Math.sqrt(p)));
const ROUND = primes.map((p) => fraction(Math.cbrt(p)));
const rotate = (x: number, n: number) => (x >>> n) | (x << (32 - n));

/** The SHA-256 of bytes, or of a text in UTF-8, as 64 hexadecimal digits. */
export function sha256(of: string | Uint8Array): string {
  const message = typeof of === 'string' ? new TextEncoder().encode(of) : of;
  const blocks = new Uint8Array((((message.length + 8) >> 6) + 1) << 6);
  blocks.set(message);
  blocks[message.length] = 0x80;
  const view = new DataView(blocks.buffer);
  view.setUint32(blocks.length - 8, Math.floor(message.length / 2 ** 29));
  view.setUint32(blocks.length - 4, message.length << 3);

  const hash = Int32Array.from(START);
  const w = new Int32Array(64);
  for (let offset = 0; offset < blocks.length; offset += 64) {
    for (let t = 0; t < 64; t++) {
      if (t < 16) {
        w[t] = view.getInt32(offset + t * 4);
        continue;
      }
      const [a, b] = [w[t - 15] as number, w[t - 2] as number];
      const s0 = rotate(a, 7) ^ rotate(a, 18) ^ (a >>> 3);
      const s1 = rotate(b, 17) ^ rotate(b, 19) ^ (b >>> 10);
      w[t] = s0 + s1 + (w[t - 16] as number) + (w[t - 7] as number);
    }
    let [a, b, c, d, e, f, g, h] = hash as unknown as [number, number, number, number, number, number, number, number];
    for (let t = 0; t < 64; t++) {
      const s1 = rotate(e, 6) ^ rotate(e, 11) ^ rotate(e, 25);
      const t1 = (h + s1 + ((e & f) ^ (~e & g)) + (ROUND[t] as number) + (w[t] as number)) | 0;
      const s0 = rotate(a, 2) ^ rotate(a, 13) ^ rotate(a, 22);
      const t2 = (s0 + ((a & b) ^ (a & c) ^ (b & c))) | 0;
      [h, g, f, e, d, c, b, a] = [g, f, e, (d + t1) | 0, c, b, a, (t1 + t2) | 0];
    }
    [a, b, c, d, e, f, g, h].forEach((value, i) => {
      hash[i] = (hash[i] as number) + value;
    });
  }
  return [...hash].map((x) => (x >>> 0).toString(16).padStart(8, '0')).join('');
}
