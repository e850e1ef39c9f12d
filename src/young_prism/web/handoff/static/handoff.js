// Hand-off: the chosen picture brought into sight, places of pages ticked, a frame that says what was fetched in it, a publishing or a look at pages followed.

import { reload } from '../js/reload.js'

const list = document.querySelector('[data-choices]')
const first = list?.querySelector(':checked')?.closest('li')
if (first) list.scrollTop = first.offsetTop - list.offsetTop - list.clientHeight / 3

// A frame is a page of its own: its width is its viewport, and its picture says what it took.
function sayFetched(frame) {
  const said = document.querySelector('[data-fetched]')
  const image = frame.contentDocument?.images[0]
  if (!said || !image?.currentSrc) return
  const name = decodeURIComponent(new URL(image.currentSrc).pathname.split('/').pop())
  const entry = frame.contentWindow.performance.getEntriesByName(image.currentSrc).at(-1)
  const bytes = entry?.encodedBodySize ? `, ${(entry.encodedBodySize / 1000).toFixed(1)} kB` : ''
  said.textContent = `${frame.clientWidth} px wide at density ${devicePixelRatio}: fetched ${name}${bytes}`
}

const watched = new WeakSet()
function watchFrames() {
  for (const frame of document.querySelectorAll('[data-frame] iframe')) {
    if (watched.has(frame)) continue
    watched.add(frame)
    const listen = () => {
      for (const image of frame.contentDocument?.images ?? []) image.addEventListener('load', () => sayFetched(frame))
      sayFetched(frame)
    }
    frame.addEventListener('load', listen)
    if (frame.contentDocument?.readyState === 'complete') listen()
    new ResizeObserver(() => setTimeout(() => sayFetched(frame), 60)).observe(frame)
  }
}
watchFrames()
document.addEventListener('swapped', watchFrames)

// Places of pages: a file's box is the sum of its places, and the button says how many there are.
const places = document.querySelector('[data-places]')
function countPlaces() {
  const button = places.querySelector('[data-count]')
  const chosen = places.querySelectorAll('[name=place]:checked').length
  const files = [...places.querySelectorAll('.file')].filter((file) => file.querySelector('[name=place]:checked')).length
  for (const file of places.querySelectorAll('.file')) {
    const own = [...file.querySelectorAll('[name=place]')]
    const all = file.querySelector('[data-all]')
    if (!all) continue
    all.checked = own.every((box) => box.checked)
    all.indeterminate = !all.checked && own.some((box) => box.checked)
  }
  const others = places.querySelector('[data-unchosen]')
  if (others) others.hidden = chosen === places.querySelectorAll('[name=place]').length
  if (!button) return
  button.textContent = `Rewrite ${chosen} ${chosen === 1 ? 'place' : 'places'} in ${files} ${files === 1 ? 'file' : 'files'}`
  for (const one of places.querySelectorAll('.deciding button:not([data-unchosen])')) one.disabled = !chosen
}
places?.addEventListener('change', ({ target }) => {
  if (target.matches('[data-all]')) {
    for (const box of target.closest('.file').querySelectorAll('[name=place]')) box.checked = target.checked
  }
  countPlaces()
})
if (places) countPlaces()

// What runs on the server: the bar moves, and the page reloads at the end.
const running = document.querySelector('[data-running]')
if (running?.dataset.over === '0') {
  const timer = setInterval(async () => {
    try {
      const state = await (await fetch(running.dataset.url)).json()
      if (state.over) {
        clearInterval(timer)
        reload()
      } else {
        if (state.total) running.querySelector('[data-done]').textContent = `${state.done} of ${state.total}`
        Object.assign(running.querySelector('progress'), { max: state.total || 1, value: state.done })
      }
    } catch {
      // The server may be away for a moment; the next round asks again.
    }
  }, 500)
}
