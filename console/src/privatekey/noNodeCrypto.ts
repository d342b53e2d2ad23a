export const webcrypto = undefined;
