// One picture: what the browser fetched, a snippet that is rewritten while one types, and copying it.

const live = document.querySelector('[data-live] picture img, [data-live] > img')
const fetched = document.querySelector('[data-fetched]')

function sayFetched() {
  if (!live.currentSrc) return
  // Compared decoded: two ways of percent-encoding one path are equally right.
  const path = decodeURIComponent(new URL(live.currentSrc).pathname)
  const links = [...document.querySelectorAll('[data-file]')]
  const match = links.find((link) => decodeURIComponent(link.dataset.file) === path)
  if (match) fetched.textContent = `Your browser fetched ${match.dataset.label}`
}

if (live && fetched) {
  if (live.complete) sayFetched()
  live.addEventListener('load', sayFetched)
}

const form = document.querySelector('[data-snippet-form]')
const code = document.querySelector('[data-snippet]')
let waiting
form?.addEventListener('input', () => {
  clearTimeout(waiting)
  waiting = setTimeout(async () => {
    const address = new URL(location.href)
    for (const [name, value] of new FormData(form)) {
      if (value) address.searchParams.set(name, value)
      else address.searchParams.delete(name)
    }
    const page = new DOMParser().parseFromString(await (await fetch(address)).text(), 'text/html')
    code.textContent = page.querySelector('[data-snippet]').textContent
    history.replaceState(null, '', address)
  }, 200)
})
form?.addEventListener('submit', (event) => event.preventDefault())

const copy = document.querySelector('[data-copy]')
if (copy) {
  copy.hidden = false
  copy.addEventListener('click', async () => {
    const said = document.querySelector('[data-copied]')
    try {
      await navigator.clipboard.writeText(code.textContent)
      said.textContent = 'Copied'
    } catch {
      getSelection().selectAllChildren(code)
      said.textContent = 'Selected: press Ctrl+C'
    }
    setTimeout(() => (said.textContent = ''), 3000)
  })
}
