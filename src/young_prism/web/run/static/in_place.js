// Follows a squeeze in place, and loads the page again when it is over.

import { reload } from '../js/reload.js'

const place = document.querySelector('[data-squeeze]')
const bar = place.querySelector('progress')
const said = document.querySelector('[data-said]')

async function ask() {
  try {
    const now = await (await fetch(place.dataset.squeeze)).json()
    if (now.over) return reload()
    bar.max = now.total || 1
    bar.value = now.done
    said.textContent = `${now.done} of ${now.total} files`
  } catch {
    // The server may be away for a moment; the next round asks again.
  }
  setTimeout(ask, 600)
}

setTimeout(ask, 600)
