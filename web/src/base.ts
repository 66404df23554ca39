/** The path that the service is reached under, such as /loads; nothing where it is the root. */
export const base = new URL(document.baseURI).pathname.replace(/\/$/, '')
