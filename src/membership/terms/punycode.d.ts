declare module 'punycode/punycode.js' {
  const punycode: {
    /** Labels in Punycode as letters (RFC 3492); others stay. */
    toUnicode(domain: string): string;
  };
  export default punycode;
}
