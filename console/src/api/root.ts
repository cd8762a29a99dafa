/** The path below which the service is offered, without a slash at its end; empty for none. */
export const root = document.querySelector<HTMLMetaElement>('meta[name=invio-root]')?.content ?? ''
