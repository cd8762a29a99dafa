/** The path below which the service is offered, without a slash at its end; empty for none. */
export const root =
  typeof document === 'undefined'
    ? '' // in tests, which have no page
    : (document.querySelector<HTMLMetaElement>('meta[name=invio-root]')?.content ?? '')
