// The first page, where scripts run: the console.
const link = document.querySelector<HTMLAnchorElement>('#console')
if (link) location.replace(link.href)
