/* A made-up authenticator (WebAuthn level 3): a key pair that answers as a device does, or as one that lies. */
import { createHash, generateKeyPairSync, randomBytes, sign } from 'node:crypto';

const sha256 = (bytes: Buffer | string) => createHash('sha256').update(bytes).digest();
const text = (bytes: Buffer) => bytes.toString('base64url');

export interface Lies {
  readonly origin?: string;
  readonly rp?: string;
  /** Nobody was verified. */
  readonly unverified?: true;
  readonly counter?: number;
  /** Another key signs. */
  readonly forged?: true;
}

/** @param rp the domain, and `origin` the page, that it is asked by. */
export function madeUpAuthenticator(rp: string, origin: string) {
  const [{ privateKey, publicKey }, other] = [generateKeyPairSync('ec', { namedCurve: 'P-256' }), generateKeyPairSync('ec', { namedCurve: 'P-256' })];
  const id = randomBytes(16);
  let counter = 0;
  const flags = (lies: Lies, more = 0) => Buffer.from([0x01 | (lies.unverified ? 0 : 0x04) | more]);
  const counted = (n: number) => {
    const bytes = Buffer.alloc(4);
    bytes.writeUInt32BE(n);
    return bytes;
  };
  const client = (type: string, challenge: string, lies: Lies) =>
    Buffer.from(JSON.stringify({ type: `webauthn.${type}`, challenge, origin: lies.origin ?? origin, crossOrigin: false }));
  const common = { id: text(id), rawId: text(id), type: 'public-key', clientExtensionResults: {} } as const;
  return {
    /** Makes a passkey. */
    create({ challenge }: { readonly challenge: string }, lies: Lies = {}) {
      const { x, y } = publicKey.export({ format: 'jwk' }) as { x: string; y: string };
      const [px, py] = [Buffer.from(x, 'base64url'), Buffer.from(y, 'base64url')];
      const cose = Buffer.concat([Buffer.from('a5010203262001215820', 'hex'), px, Buffer.from('225820', 'hex'), py]);
      const length = Buffer.from([0, id.length]);
      const data = Buffer.concat([sha256(lies.rp ?? rp), flags(lies, 0x40), counted(counter), Buffer.alloc(16), length, id, cose]);
      const attestation = Buffer.concat([Buffer.from('a363666d74646e6f6e656761747453746d74a068617574684461746158', 'hex'), Buffer.from([data.length]), data]);
      return { ...common, response: { clientDataJSON: text(client('create', challenge, lies)), attestationObject: text(attestation), transports: [] } };
    },
    /** Answers to whoever asks. */
    answer({ challenge }: { readonly challenge: string }, lies: Lies = {}) {
      counter = lies.counter ?? counter + 1;
      const data = Buffer.concat([sha256(lies.rp ?? rp), flags(lies), counted(counter)]);
      const said = client('get', challenge, lies);
      const signature = sign('sha256', Buffer.concat([data, sha256(said)]), lies.forged ? other.privateKey : privateKey);
      return { ...common, response: { clientDataJSON: text(said), authenticatorData: text(data), signature: text(signature) } };
    },
  };
}
