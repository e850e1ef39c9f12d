// The proof page: one place of the picture in all candidates at real pixels, whatever the screen's density; what is missing
// is asked for until it is there.

const root = document.querySelector('[data-proof]')
const $ = (selector, from = root) => from.querySelector(selector)
const $$ = (selector, from = root) => [...from.querySelectorAll(selector)]
const width = Number(root.dataset.width)
const height = Number(root.dataset.height)
const page = Math.random().toString(36).slice(2, 10)
const here = new URL(location.href)
const stage = $('[data-stage-box]')
const strip = $('[data-strip]')
const views = $$('[data-view]')
const bands = $$('[data-band]', strip ?? root).length
const look = { x: Number(root.dataset.x) * width, y: Number(root.dataset.y) * height, zoom: root.dataset.zoom }
const edges = startingEdges()

function startingEdges() {
  const said = root.dataset.edges.split(',').filter(Boolean).map(Number)
  const good = said.length === bands && said.every((edge, at) => edge > (said[at - 1] ?? 0) && edge < 100)
  return good ? said.map((edge) => edge / 100) : Array.from({ length: bands }, (_, at) => (at + 1) / (bands + 1))
}

// Device pixels that one pixel of the rung takes.
function scale() {
  if (look.zoom === 'layout') return (Number(root.dataset.cssWidth) * devicePixelRatio) / width
  return Number(look.zoom)
}

function between(value, least, most) {
  return Math.min(Math.max(value, least), most)
}

function begin(middle, seen, whole) {
  if (seen >= whole) return Math.round((whole - seen) / 2)
  return Math.round(between(middle - seen / 2, 0, whole - seen))
}

// Text above may end between two pixels of the screen; the picture must not begin there.
function snap(view) {
  view.style.left = view.style.top = '0px'
  const box = view.getBoundingClientRect()
  for (const [side, at] of [['left', box.left + scrollX], ['top', box.top + scrollY]]) {
    const exact = at * devicePixelRatio
    view.style[side] = `${(Math.round(exact) - exact) / devicePixelRatio}px`
  }
}

function draw() {
  for (const view of views) {
    const box = view.parentElement.getBoundingClientRect()
    // A whole number of device pixels, and a whole pixel of the picture at its edge: then nothing is interpolated.
    const across = Math.floor(box.width * devicePixelRatio)
    const wanted = strip ? Math.min(between(innerHeight * 0.42, 220, 560), Math.max(200, (height * scale()) / devicePixelRatio)) : 260
    const down = Math.floor(wanted * devicePixelRatio)
    view.style.width = `${across / devicePixelRatio}px`
    view.style.height = `${down / devicePixelRatio}px`
    snap(view)
    const seen = [across / scale(), down / scale()]
    const left = begin(look.x, seen[0], width)
    const top = begin(look.y, seen[1], height)
    view.setAttribute('viewBox', `${left} ${top} ${seen[0]} ${seen[1]}`)
    view.classList.toggle('smooth', look.zoom === 'layout')
    let from = 0
    for (const [at, clip] of $$('[data-clip]', view).entries()) {
      clip.setAttribute('x', left + from * seen[0])
      clip.setAttribute('y', top)
      clip.setAttribute('width', (edges[at] - from) * seen[0])
      clip.setAttribute('height', seen[1])
      from = edges[at]
    }
  }
  const heads = $('[data-heads]')
  if (!heads) return
  const parts = [...edges, 1].map((edge, at) => edge - (edges[at - 1] ?? 0))
  heads.style.gridTemplateColumns = parts.map((part) => `minmax(0, ${part}fr)`).join(' ')
  for (const [at, edge] of $$('[data-edge]').entries()) {
    edge.style.left = `${edges[at] * 100}%`
    edge.setAttribute('aria-valuenow', Math.round(edges[at] * 100))
  }
}

function remember() {
  here.searchParams.set('x', between(look.x / width, 0, 1).toFixed(4))
  here.searchParams.set('y', between(look.y / height, 0, 1).toFixed(4))
  history.replaceState(null, '', here)
}

function move(across, down) {
  const [, , seenAcross, seenDown] = views[0].getAttribute('viewBox').split(' ').map(Number)
  look.x = seenAcross < width ? between(look.x + across, seenAcross / 2, width - seenAcross / 2) : width / 2
  look.y = seenDown < height ? between(look.y + down, seenDown / 2, height - seenDown / 2) : height / 2
  draw()
  remember()
}

function go(changes) {
  for (const [name, value] of Object.entries(changes)) here.searchParams.set(name, value)
  here.searchParams.delete('add')
  location.assign(here)
}

// Dragging the picture, in any of the views.
for (const view of views) {
  view.addEventListener('pointerdown', (event) => {
    if (event.button) return
    view.setPointerCapture(event.pointerId)
    let last = event
    const drag = (moved) => {
      const step = devicePixelRatio / scale()
      move((last.clientX - moved.clientX) * step, (last.clientY - moved.clientY) * step)
      last = moved
    }
    view.addEventListener('pointermove', drag)
    view.addEventListener('pointerup', () => view.removeEventListener('pointermove', drag), { once: true })
    view.addEventListener('pointercancel', () => view.removeEventListener('pointermove', drag), { once: true })
  })
}

// Edges of bands.
function setEdge(at, share) {
  edges[at] = between(share, (edges[at - 1] ?? 0) + 0.02, (edges[at + 1] ?? 1) - 0.02)
  here.searchParams.set('edges', edges.map((edge) => Math.round(edge * 1000) / 10).join(','))
  draw()
  history.replaceState(null, '', here)
}

for (const [at, edge] of $$('[data-edge]').entries()) {
  edge.addEventListener('pointerdown', (event) => {
    event.preventDefault()
    edge.focus()
    edge.setPointerCapture(event.pointerId)
    const drag = (moved) => {
      const box = strip.getBoundingClientRect()
      setEdge(at, (moved.clientX - box.left) / box.width)
    }
    edge.addEventListener('pointermove', drag)
    edge.addEventListener('pointerup', () => edge.removeEventListener('pointermove', drag), { once: true })
  })
  edge.addEventListener('keydown', (event) => {
    const step = { ArrowLeft: -0.01, ArrowRight: 0.01 }[event.key]
    if (!step) return
    event.preventDefault()
    event.stopPropagation()
    setEdge(at, edges[at] + step)
  })
}

// The original everywhere, as long as it is held.
const flipButton = $('[data-flip]')
function flip(on) {
  stage.classList.toggle('flipped', on)
  flipButton.setAttribute('aria-pressed', String(on))
}
flipButton.addEventListener('pointerdown', () => flip(true))
addEventListener('pointerup', () => flip(false))
addEventListener('blur', () => flip(false))
flipButton.addEventListener('keydown', (event) => {
  if (event.key === ' ' || event.key === 'Enter') flip(true)
})
flipButton.addEventListener('keyup', () => flip(false))

const zooms = ['1', '2', '4']
addEventListener('keydown', (event) => {
  if (event.ctrlKey || event.altKey || event.metaKey || event.target.closest('input, textarea, select')) return
  const step = (event.shiftKey ? 240 : 40) / scale()
  const ways = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, -step], ArrowDown: [0, step] }
  const inside = event.target.closest('[data-strip], [data-view]')
  if (event.key === 'f' || event.key === 'F') flip(true)
  else if (ways[event.key] && inside) {
    event.preventDefault()
    move(...ways[event.key])
  } else if (event.key === '+' || event.key === '-') {
    const at = zooms.indexOf(look.zoom) + (event.key === '+' ? 1 : -1)
    setZoom(zooms[between(at, 0, zooms.length - 1)])
  } else if (event.key === 'g' || event.key === 'G') {
    const options = [...ground.options].map((option) => option.value)
    setGround(options[(options.indexOf(ground.value) + 1) % options.length])
  } else if (/^[1-8]$/.test(event.key)) {
    $$('.pick')[Number(event.key) - 1]?.click()
  }
})
addEventListener('keyup', (event) => {
  if (event.key === 'f' || event.key === 'F') flip(false)
})

function setZoom(value) {
  if (value === 'layout' || look.zoom === 'layout') return go({ zoom: value })
  look.zoom = value
  $('[data-go="zoom"]').value = value
  here.searchParams.set('zoom', value)
  move(0, 0)
}

for (const select of $$('[data-go]')) {
  select.addEventListener('change', () =>
    select.dataset.go === 'zoom' ? setZoom(select.value) : go({ [select.dataset.go]: select.value }),
  )
}

// What is around the picture.
const ground = $('[data-ground]')
const colour = $('[data-colour]')
function setGround(value) {
  ground.value = value
  stage.className = stage.className.replace(/ground-\w+/, `ground-${value}`)
  $('[data-page-colour]').hidden = value !== 'page'
  here.searchParams.set('ground', value)
  history.replaceState(null, '', here)
}
ground.addEventListener('change', () => setGround(ground.value))
function setColour() {
  stage.style.setProperty('--page-colour', colour.value)
  const [red, green, blue] = [1, 3, 5].map((at) => parseInt(colour.value.slice(at, at + 2), 16))
  stage.classList.toggle('page-light', red * 0.3 + green * 0.59 + blue * 0.11 > 140)
}
colour.addEventListener('input', () => {
  setColour()
  here.searchParams.set('colour', colour.value)
  history.replaceState(null, '', here)
})
setColour()

// Links of this page take along what was changed here since it was loaded.
document.addEventListener('click', (event) => {
  const link = event.target.closest('a[data-stay]')
  if (!link) return
  const to = new URL(link.href.baseVal ?? link.href, location.href)
  for (const name of ['x', 'y', 'zoom', 'ground', 'colour', 'target']) {
    const value = here.searchParams.get(name)
    if (value !== null) to.searchParams.set(name, value)
  }
  if (to.searchParams.getAll('c').length === here.searchParams.getAll('c').length && here.searchParams.has('edges')) {
    to.searchParams.set('edges', here.searchParams.get('edges'))
  } else to.searchParams.delete('edges')
  event.preventDefault()
  location.assign(to)
})

// The target as a line that can be dragged.
const curve = $('[data-curve]')
let aiming = false
let asked

function aimAt(score) {
  const aim = $('[data-aim]', curve)
  const { low, high, floor, top } = aim.dataset
  const value = Math.round(between(score, 10, 98) * 2) / 2
  const share = (Math.max(value, Number(low)) - low) / (high - low)
  aim.setAttribute('transform', `translate(0 ${floor - share * (floor - top)})`)
  aim.setAttribute('aria-valuenow', value)
  $('[data-aim-text]', curve).textContent = `target ${value}`
  for (const field of $$('[data-target-field]')) field.value = value
  here.searchParams.set('target', value)
  history.replaceState(null, '', here)
  clearTimeout(asked)
  asked = setTimeout(ask, 80)
}

curve.addEventListener('pointerdown', (event) => {
  if (!event.target.closest('[data-aim]') || event.target.closest('a')) return
  event.preventDefault()
  aiming = true
  const svg = $('svg', curve)
  const { low, high, floor, top } = $('[data-aim]', curve).dataset
  const drag = (moved) => {
    const box = svg.getBoundingClientRect()
    const y = ((moved.clientY - box.top) / box.height) * svg.viewBox.baseVal.height
    aimAt(Number(low) + ((floor - y) / (floor - top)) * (high - low))
  }
  addEventListener('pointermove', drag)
  addEventListener(
    'pointerup',
    () => {
      aiming = false
      removeEventListener('pointermove', drag)
      ask()
    },
    { once: true },
  )
})
curve.addEventListener('keydown', (event) => {
  const aim = event.target.closest('[data-aim]')
  const step = { ArrowUp: 1, ArrowDown: -1, ArrowRight: 0.5, ArrowLeft: -0.5, PageUp: 5, PageDown: -5 }[event.key]
  if (!aim || !step) return
  event.preventDefault()
  aimAt(Number(aim.getAttribute('aria-valuenow')) + step)
})
root.addEventListener('change', (event) => {
  if (event.target.matches('[data-target-field]')) aimAt(Number(event.target.value))
})
root.addEventListener('submit', (event) => {
  for (const field of $$('[data-back]', event.target)) field.value = here.search
})

// What is made meanwhile.
function put(part, html) {
  if (part.contains(document.activeElement) && !document.activeElement.matches('[data-aim], [data-target-field]')) return
  if (part.dataset.last === html) return
  const aimed = document.activeElement?.matches('[data-aim]')
  const typed = document.activeElement?.matches('[data-target-field]')
  if (typed) return
  const open = $$('details', part).map((one) => one.open)
  part.innerHTML = html
  part.dataset.last = html
  for (const [at, one] of $$('details', part).entries()) one.open = open[at] ?? one.open
  if (aimed) $('[data-aim]', part)?.focus()
}

let waiting
async function ask() {
  clearTimeout(waiting)
  const url = new URL(root.dataset.state, location.href)
  url.search = here.search
  url.searchParams.set('page', page)
  const target = here.searchParams.get('target')
  if (!url.searchParams.has('original')) url.searchParams.set('original', $('[name="original"]').value)
  let now
  try {
    const answer = await fetch(url, { headers: { Accept: 'application/json' } })
    if (!answer.ok) throw new Error(answer.statusText)
    now = await answer.json()
  } catch {
    waiting = setTimeout(ask, 2000) // the server may be away for a moment
    return
  }
  for (const image of $$('[data-exact]')) setPicture(image, now.exact)
  for (const one of now.candidates) {
    for (const head of $$(`[data-head="${one.name}"]`)) if (head.innerHTML !== one.head) put(head, one.head)
    for (const band of $$(`[data-band="${one.name}"]`)) {
      setPicture($('[data-candidate]', band), one.url)
      setPicture($('[data-map]', band), one.map)
    }
  }
  // Moved on since: the line stays where the person has it, and the answer for there is under way.
  if (!aiming && here.searchParams.get('target') === target) put(curve, now.curve)
  put($('[data-keep]'), now.keep)
  put($('[data-table]'), now.table)
  root.dataset.done = now.done ? 'yes' : 'no'
  if (!now.done && !document.hidden) waiting = setTimeout(ask, 300)
}

function setPicture(image, url) {
  if (image && url && image.getAttribute('href') !== url) image.setAttribute('href', url)
}

document.addEventListener('visibilitychange', () => {
  if (!document.hidden && root.dataset.done === 'no') ask()
})
addEventListener('pagehide', () => {
  const form = new FormData()
  form.set('csrf_token', root.dataset.csrf)
  navigator.sendBeacon(`${root.dataset.leave}?page=${page}`, form)
})
new ResizeObserver(draw).observe(root)
draw()
if (root.dataset.done === 'no') ask()
