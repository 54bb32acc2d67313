declare module 'punycode/punycode.es6.js' {
  /** Labels in Punycode as letters (RFC 3492); others stay. */
  export function toUnicode(domain: string): string;
}
