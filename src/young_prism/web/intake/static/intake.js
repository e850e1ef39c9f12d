// Intake: how far the look is, sorting at once, arrow keys in the contact sheet.

const looking = document.querySelector('[data-looking]')
if (looking) {
  const text = looking.querySelector('[data-looking-text]')
  const bar = looking.querySelector('[data-looking-bar]')
  const ask = async () => {
    try {
      const state = await (await fetch(looking.dataset.looking)).json()
      if (!state.going) return location.reload()
      if (text && state.total) {
        text.textContent = `${state.done} of ${state.total} originals`
        bar.max = state.total
        bar.value = state.done
      }
    } catch {
      // asked again below
    }
    setTimeout(ask, 500)
  }
  if (text) ask()
}

for (const select of document.querySelectorAll('[data-submit]')) {
  select.addEventListener('change', () => select.form.requestSubmit())
}

const grid = document.querySelector('[data-grid]')
grid?.addEventListener('keydown', (event) => {
  const links = [...grid.querySelectorAll('a')]
  const at = links.indexOf(document.activeElement)
  if (at < 0 || event.ctrlKey || event.altKey || event.metaKey) return
  const columns = links.filter((link) => link.offsetTop === links[0].offsetTop).length
  const step = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: columns, ArrowUp: -columns }[event.key]
  const next = step && links[at + step]
  if (!next) return
  event.preventDefault()
  next.focus()
})

for (const image of document.querySelectorAll('.thumb img')) {
  // What cannot be drawn small shows its mean colour and says so, rather than a broken mark.
  image.addEventListener('error', () => image.parentElement.classList.add('undrawn'))
}
