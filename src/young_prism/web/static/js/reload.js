// Reloads the page, but waits while a navigation is in progress: a reload would cancel it, and a click be lost.

const PATIENCE_MS = 10_000 // a download starts as a navigation too, but the page stays
let leftAt = -Infinity
let attempt
addEventListener('beforeunload', () => { leftAt = performance.now() })

export function reload() {
  clearTimeout(attempt) // scripts may ask again while one is waiting
  if (performance.now() - leftAt < PATIENCE_MS) attempt = setTimeout(reload, 500)
  else location.reload()
}
