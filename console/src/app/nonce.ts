/* The page carries a fresh nonce for styles in <meta property="csp-nonce">; Vite's template has the place for it. */
export const cspNonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce ?? "";

/* The component kit passes the nonce to its theme, but its scroll lock adds a <style> without one. Scripts are held
   to 'self', so giving our own styles the nonce opens nothing. */
if (cspNonce) {
  const create = document.createElement.bind(document);
  document.createElement = (tag: string, options?: ElementCreationOptions) => {
    const element = create(tag, options);
    if (tag === "style") element.nonce = cspNonce;
    return element;
  };
}
