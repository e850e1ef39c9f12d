// Intake: how far a look is, a sheet or list of any length, selecting, the inspector, the keys.

import { reload } from '../js/reload.js'

const looking = document.querySelector('[data-looking]')
if (looking) {
  const text = looking.querySelector('[data-looking-text]')
  const bar = looking.querySelector('[data-looking-bar]')
  const ask = async () => {
    try {
      const state = await (await fetch(looking.dataset.looking)).json()
      if (!state.going) return reload()
      // The first look is over: there is something to see, while the closer one goes on.
      if (state.closer && !looking.dataset.version) return reload()
      if (text && state.total) {
        const what = looking.dataset.version ? (state.closer ? 'Inspecting pixels: ' : 'Rescanning: ') : ''
        text.textContent = `${what}${state.done} of ${state.total}${what ? '' : ' originals'}`
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

for (const fold of document.querySelectorAll('[data-fold]')) {
  if (matchMedia('(max-width: 900px)').matches) fold.open = false
}

// What cannot be drawn small shows its mean colour and says so, rather than a broken mark. Errors do not bubble.
document.addEventListener('error', ({ target }) => {
  if (target.matches?.('.thumb img')) target.parentElement.classList.add('undrawn')
  else if (target.matches?.('image.small-picture')) target.remove()
}, true)

const grid = document.querySelector('[data-grid]')
const scope = document.querySelector('[data-scope]')
const picked = new Set()
let paths = null // of the whole selection, in order; asked for when it is needed

async function allPaths() {
  paths ??= await (await fetch(scope.dataset.paths)).json()
  return paths
}

function fragment(html) {
  // A row is lost by the parser anywhere but in a table.
  const holder = document.createElement(grid.tagName === 'TBODY' ? 'tbody' : 'ul')
  if (holder.tagName === 'TBODY') document.createElement('table').append(holder)
  holder.innerHTML = html
  return [...holder.children]
}

// A small picture that went out of sight before it came holds up those that are in sight: its request is let go.
function halt(item) {
  const image = item.querySelector('img')
  if (!image || image.complete) return
  image.dataset.later = image.getAttribute('src')
  image.removeAttribute('src')
}

function resume(item) {
  const image = item.querySelector('img[data-later]')
  if (!image) return
  image.setAttribute('src', image.dataset.later)
  delete image.dataset.later
}

// A window on the selection: only what is in sight, and a little above and below, is in the page.
class Window {
  constructor(element) {
    this.grid = element
    this.count = Number(element.dataset.count)
    this.chunk = Number(element.dataset.stretch)
    this.chunks = new Map() // number -> items, or null while they are on their way
    this.shown = new Map()
    this.held = -1
    this.above = this.spacer()
    this.below = this.spacer()
    const first = Number(element.dataset.first)
    const items = [...element.children]
    this.chunks.set(first / this.chunk, items)
    items.forEach((item, at) => this.shown.set(first + at, item))
    element.prepend(this.above)
    element.append(this.below)
    document.querySelector('[data-pages]')?.setAttribute('hidden', '')
    addEventListener('scroll', () => this.soon(), { passive: true })
    new ResizeObserver(([{ contentRect }]) => {
      if (contentRect.width === this.width) return // only longer or shorter
      this.width = contentRect.width
      this.stale = true
      this.soon()
    }).observe(element.parentElement)
    // Rows are as high as their letters, which may come after them.
    document.fonts.ready.then(() => {
      this.stale = true
      this.soon()
    })
    if (first) {
      this.measure()
      scrollTo(0, this.top() + (first / this.columns) * this.row - 120)
    }
    this.draw()
  }

  spacer() {
    const element = document.createElement(this.grid.tagName === 'TBODY' ? 'tr' : 'li')
    element.className = 'spacer'
    element.setAttribute('aria-hidden', 'true')
    return element
  }

  top() {
    return this.grid.getBoundingClientRect().top + scrollY
  }

  measure() {
    const table = this.grid.tagName === 'TBODY'
    this.columns = table ? 1 : getComputedStyle(this.grid).gridTemplateColumns.split(' ').length
    const rows = [...this.shown].filter(([, item]) => item.isConnected && !item.dataset.waits)
    if (!rows.length) return false
    const line = ([at]) => Math.floor(at / this.columns)
    const one = rows[0]
    const other = rows.find((row) => line(row) !== line(one))
    this.row = other
      ? (other[1].offsetTop - one[1].offsetTop) / (line(other) - line(one))
      : one[1].offsetHeight + (table ? 0 : 14)
    return this.row > 0
  }

  soon() {
    this.waiting ||= requestAnimationFrame(() => {
      this.waiting = 0
      this.draw()
    })
  }

  draw() {
    // Where nothing but stand-ins is in sight there is nothing to measure yet: the old measure serves until then.
    if ((this.stale || !this.row) && this.measure()) this.stale = false
    if (!this.row) return
    const rows = Math.ceil(this.count / this.columns)
    const margin = Math.ceil(innerHeight / this.row)
    const from = Math.max(0, Math.min(rows - 1, Math.floor((scrollY - this.top()) / this.row) - margin))
    const to = Math.min(rows, from + 3 * margin + 2)
    const first = from * this.columns
    const last = Math.min(this.count, to * this.columns)
    for (const [at, item] of this.shown) {
      const inside = at >= first && at < last
      if (inside && !(item.dataset.waits && this.item(at))) continue
      if (item.contains(document.activeElement)) this.held = at // given back when something stands there again
      halt(item)
      item.remove()
      this.shown.delete(at)
    }
    let before = this.above
    for (let at = first; at < last; at += 1) {
      let item = this.shown.get(at)
      if (!item) {
        item = this.item(at) || this.stand(at)
        this.shown.set(at, item)
        resume(item)
        mark(item)
      }
      if (before.nextElementSibling !== item) before.after(item)
      before = item
    }
    if (this.held >= 0 && this.shown.has(this.held) && document.activeElement === document.body) {
      focusOn(this.shown.get(this.held))
      this.held = -1
    }
    this.gap(this.above, from)
    this.gap(this.below, rows - to)
    // What was far away is forgotten.
    const here = Math.floor(first / this.chunk)
    for (const number of this.chunks.keys()) if (Math.abs(number - here) > 12) this.chunks.delete(number)
  }

  gap(spacer, rows) {
    spacer.style.height = `${rows * this.row}px`
    spacer.hidden = !rows
  }

  item(at) {
    const number = Math.floor(at / this.chunk)
    if (!this.chunks.has(number)) this.load(number)
    return this.chunks.get(number)?.[at - number * this.chunk]
  }

  stand(at) {
    const item = this.spacer()
    item.className = 'stand'
    item.dataset.waits = item.dataset.item = at
    item.tabIndex = -1
    item.removeAttribute('aria-hidden')
    item.style.height = `${this.row - (this.grid.tagName === 'TBODY' ? 0 : 14)}px`
    return item
  }

  async load(number) {
    this.chunks.set(number, null)
    const address = new URL(this.grid.dataset.window, location.href)
    address.searchParams.set('from', number * this.chunk)
    try {
      const answer = await fetch(address, { priority: 'high' })
      if (!answer.ok) throw new Error(answer.status)
      this.chunks.set(number, fragment(await answer.text()))
    } catch {
      this.chunks.delete(number)
      await new Promise((resolve) => setTimeout(resolve, 1000))
    }
    this.soon()
  }

  reach(at) {
    // Bring an item into sight and return it.
    const y = this.top() + Math.floor(at / this.columns) * this.row
    if (y < scrollY + 60) scrollTo(0, y - 80)
    else if (y + this.row > scrollY + innerHeight) scrollTo(0, y + this.row - innerHeight + 20)
    this.draw()
    return this.shown.get(at)
  }
}

function focusOn(item) {
  ;(item?.querySelector('a') ?? item)?.focus({ preventScroll: true })
}

const pane = grid && Number(grid.dataset.count) > 0 ? new Window(grid) : null

// Selecting

function mark(item) {
  const box = item.querySelector('[data-pick]')
  if (!box) return
  box.checked = picked.has(box.value)
  item.classList.toggle('picked', box.checked)
}

function showPicked() {
  const said = scope.querySelector('[data-picked]')
  if (said) said.textContent = picked.size ? ` · ${picked.size.toLocaleString('en')} selected` : ''
  for (const move of scope.querySelectorAll('[data-move]')) move.disabled = !picked.size
  const all = scope.querySelector('[data-pick-all]')
  if (all) {
    all.checked = picked.size > 0 && picked.size === Number(scope.dataset.total)
    all.indeterminate = picked.size > 0 && !all.checked
  }
  for (const item of pane?.shown.values() ?? []) mark(item)
}

let lastPicked = -1

async function pick(box, stretch) {
  const at = Number(box.closest('[data-item]').dataset.item)
  const on = box.checked
  if (stretch && lastPicked >= 0) {
    const [from, to] = [Math.min(at, lastPicked), Math.max(at, lastPicked)]
    for (const path of (await allPaths()).slice(from, to + 1)) on ? picked.add(path) : picked.delete(path)
  } else on ? picked.add(box.value) : picked.delete(box.value)
  lastPicked = at
  showPicked()
}

if (scope) {
  grid?.addEventListener('click', (event) => {
    if (event.target.matches('[data-pick]')) pick(event.target, event.shiftKey)
  })
  const all = scope.querySelector('[data-pick-all]')
  if (all) {
    all.disabled = false
    all.addEventListener('change', async () => {
      if (all.checked) for (const path of await allPaths()) picked.add(path)
      else picked.clear()
      showPicked()
    })
  }
  scope.addEventListener('formdata', ({ formData, target }) => {
    const single = target.dataset.single
    const named = single ? [single] : [...picked]
    if (!single && formData.get('all')) return
    formData.delete('path')
    formData.delete('all')
    if (!single && picked.size === Number(scope.dataset.total)) formData.set('all', '1')
    else for (const path of named) formData.append('path', path)
  })
  scope.addEventListener('submit', (event) => {
    scope.dataset.single = event.submitter?.dataset.single ?? ''
    if (!scope.dataset.single) delete scope.dataset.single
  })
  showPicked()
}

// The inspector: opened beside the selection without a new page, and in the address.

const page = document.querySelector('[data-intake]')
const inspector = document.querySelector('[data-inspector]')

function lit(path) {
  for (const item of document.querySelectorAll('[data-path]')) item.classList.toggle('on', item.dataset.path === path)
}

async function inspect(address, { push = true } = {}) {
  const path = address.searchParams.get('show')
  const asked = new URL(page.dataset.inspectorUrl, location.href)
  asked.search = address.search
  inspector.dataset.asked = asked
  if (path) {
    const html = await (await fetch(asked)).text()
    if (inspector.dataset.asked !== String(asked)) return
    inspector.innerHTML = html
  }
  inspector.hidden = !path
  page.classList.toggle('inspecting', Boolean(path))
  inspector.scrollTop = 0
  lit(path)
  pane?.soon()
  if (push) history.pushState(null, '', address)
}

function close() {
  const address = new URL(location.href)
  const path = address.searchParams.get('show')
  address.searchParams.delete('show')
  inspect(address)
  document.querySelector(`[data-path="${CSS.escape(path)}"]`)?.closest('a, li, tr')?.querySelector('a')?.focus()
}

if (page) {
  page.addEventListener('click', (event) => {
    if (event.ctrlKey || event.metaKey || event.shiftKey || event.button) return
    const link = event.target.closest('[data-show]')
    if (link) {
      event.preventDefault()
      inspect(new URL(link.href?.baseVal ?? link.href, location.href))
    } else if (event.target.closest('[data-close]')) {
      event.preventDefault()
      close()
    }
  })
  addEventListener('popstate', () => inspect(new URL(location.href), { push: false }))
}

addEventListener('keydown', (event) => {
  if (event.ctrlKey || event.altKey || event.metaKey || event.target.closest('input:not([type=checkbox]), textarea, select')) return
  if (event.key === 'Escape' && page && !inspector.hidden) return close()
  const item = document.activeElement.closest?.('[data-item]')
  if (!item || !pane) return
  if (event.key === 'x') {
    const box = item.querySelector('[data-pick]')
    if (!box) return
    box.checked = !box.checked
    pick(box, false)
    return
  }
  const step = { ArrowRight: pane.columns > 1 ? 1 : 0, ArrowLeft: pane.columns > 1 ? -1 : 0, ArrowDown: pane.columns, ArrowUp: -pane.columns }[event.key]
  const at = Number(item.dataset.item) + (step || 0)
  if (!step || at < 0 || at >= pane.count) return
  event.preventDefault()
  focusOn(pane.reach(at))
})
