/** The number that the page's content security policy asks of styles. */
export const styleNonce = document.querySelector<HTMLMetaElement>('meta[name=style-nonce]')?.content ?? '';
