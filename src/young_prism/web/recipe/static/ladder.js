// The drawn ladder: rungs are dragged, moved by keys, taken away, and added where the axis is pressed twice.

const NARROWEST = 16
const WIDEST = 16383
const EVERY_MS = 120

/** Let the rungs drawn in `form` be moved; `changed(widths, moving)` is told of each change. */
export function moveRungs(form, changed) {
  let drag
  let told = 0

  const widthsOf = (svg) => [...svg.querySelectorAll('[data-rung]')].map((rung) => Number(rung.dataset.rung))

  form.addEventListener('pointerdown', (event) => {
    const rung = event.target.closest?.('[data-movable] [data-rung]')
    if (!rung || event.button !== 0) return
    event.preventDefault()
    rung.focus()
    drag = { rung, svg: rung.ownerSVGElement, from: Number(rung.dataset.rung) }
    form.setPointerCapture?.(event.pointerId)
  })

  form.addEventListener('pointermove', (event) => {
    if (!drag) return
    const width = widthAt(drag.svg, event.clientX)
    if (width === Number(drag.rung.dataset.rung)) return
    place(drag.svg, drag.rung, width)
    if (Date.now() - told < EVERY_MS) return
    told = Date.now()
    changed(widthsOf(drag.svg), true)
  })

  for (const over of ['pointerup', 'pointercancel']) {
    form.addEventListener(over, () => {
      if (!drag) return
      const { svg, rung, from } = drag
      drag = undefined
      if (Number(rung.dataset.rung) !== from) changed(widthsOf(svg), false)
    })
  }

  form.addEventListener('dblclick', (event) => {
    const svg = event.target.closest?.('svg[data-movable]')
    if (svg && !event.target.closest('[data-rung]')) changed([...widthsOf(svg), widthAt(svg, event.clientX)], false)
  })

  form.addEventListener('keydown', (event) => {
    const rung = event.target.closest?.('[data-movable] [data-rung]')
    if (!rung) return
    const svg = rung.ownerSVGElement
    const width = Number(rung.dataset.rung)
    const step = event.shiftKey ? 100 : 10
    const rest = widthsOf(svg).filter((other) => other !== width)
    const to = { ArrowLeft: width - step, ArrowDown: width - step, ArrowRight: width + step, ArrowUp: width + step }[event.key]
    if (to) {
      event.preventDefault()
      changed([...rest, limited(to)], false)
    } else if (event.key === 'Delete' || event.key === 'Backspace') {
      event.preventDefault()
      if (rest.length) changed(rest, false)
    }
  })
}

const limited = (width) => Math.min(WIDEST, Math.max(NARROWEST, Math.round(width)))

function widthAt(svg, clientX) {
  const box = svg.getBoundingClientRect()
  const x = ((clientX - box.left) / box.width) * svg.viewBox.baseVal.width
  const { low, high, left, right } = Object.fromEntries(Object.entries(svg.dataset).map(([name, value]) => [name, Number(value)]))
  const share = Math.min(1.08, Math.max(0, (x - left) / (right - left)))
  const width = limited(Math.exp(low + share * (high - low)))
  return width > 200 ? Math.round(width / 10) * 10 : width
}

/** Draw a rung where it is held, until the server draws all of it. */
function place(svg, rung, width) {
  const { low, high, left, right } = svg.dataset
  const at = Number(left) + ((Math.log(width) - Number(low)) / (Number(high) - Number(low))) * (Number(right) - Number(left))
  const from = Number(rung.querySelector('.line').getAttribute('d').match(/M([\d.]+)/)[1])
  rung.setAttribute('transform', `translate(${at - from} 0)`)
  rung.dataset.rung = width
  rung.setAttribute('aria-valuenow', width)
  rung.setAttribute('aria-valuetext', `${width} pixels`)
  let label = rung.querySelector('text')
  if (!label) {
    label = document.createElementNS('http://www.w3.org/2000/svg', 'text')
    label.setAttribute('class', 'held')
    label.setAttribute('text-anchor', 'middle')
    label.setAttribute('x', from)
    label.setAttribute('y', 12)
    rung.append(label)
  }
  label.textContent = width
}
