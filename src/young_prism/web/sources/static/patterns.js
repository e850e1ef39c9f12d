// Patterns: count what they catch while they are typed.

const form = document.querySelector('[data-patterns]')
let waiting
let asked = 0

async function count() {
  const address = new URL(form.dataset.patterns, location.href)
  for (const [name, value] of new FormData(form)) if (name !== 'csrf_token') address.searchParams.set(name, value)
  const mine = ++asked
  const page = new DOMParser().parseFromString(await (await fetch(address)).text(), 'text/html')
  const fresh = page.querySelector('[data-caught]')
  if (mine !== asked || !fresh) return // a later answer is on its way
  form.querySelector('[data-caught]').replaceWith(fresh)
  history.replaceState(null, '', address)
}

form?.addEventListener('input', () => {
  clearTimeout(waiting)
  waiting = setTimeout(count, 250)
})
form?.querySelector('[data-count-now]')?.setAttribute('hidden', '')
