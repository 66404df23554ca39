// Components write their styles into <style> elements at run time. The page's
// Content-Security-Policy lets only those through that carry its nonce.
const nonce = document.querySelector<HTMLMetaElement>('meta[property=csp-nonce]')?.nonce
const create = document.createElement.bind(document)
document.createElement = ((name: string, options?: ElementCreationOptions) => {
  const element = create(name, options)
  if (nonce && name.toLowerCase() === 'style') element.nonce = nonce
  return element
}) as typeof document.createElement
