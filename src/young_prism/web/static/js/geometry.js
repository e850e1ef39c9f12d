// A picture turned, mirrored, straightened and cropped by hand: drawn with the same steps as the engine takes.

const SMALLEST = 0.02 // shortest side of a crop, as a share

function startAll() {
  for (const form of document.querySelectorAll('[data-shaping]:not([data-started])')) shape(form)
}
// Desk puts the form in place when the picture has been looked at.
new MutationObserver(startAll).observe(document.body, { childList: true, subtree: true })
startAll()

function shape(form) {
  form.dataset.started = '1'
  const field = (name) => form.elements[name]
  const part = (name) => form.querySelector(`[data-${name}]`)
  const width = Number(form.dataset.width)
  const height = Number(form.dataset.height)
  const svg = form.querySelector('svg')
  const areas = new Map([...field('part').options].map((option) => [option.value, option.dataset.area ? option.dataset.area.split(',').map(Number) : null]))

  part('stage').hidden = false
  for (const button of form.querySelectorAll('[data-turn], [data-mirror]')) button.hidden = false
  for (const plain of form.querySelectorAll('[data-no-script]')) plain.hidden = true

  const area = () => ['left', 'top', 'width', 'height'].map((name) => Number(field(name).value) / 100)
  const ratio = () => Number(field('part').selectedOptions[0].dataset.ratio) || 0
  const turned = () => (Number(field('turn').value) % 180 ? [height, width] : [width, height])

  // The largest rectangle of the same shape without empty corners, as the engine finds it.
  function inner() {
    const [w, h] = turned()
    const angle = (Math.abs(Number(field('straighten').value)) * Math.PI) / 180
    const [cos, sin] = [Math.cos(angle), Math.sin(angle)]
    const scale = Math.min(w / (w * cos + h * sin), h / (w * sin + h * cos))
    return [w * scale, h * scale]
  }

  function whole() {
    // A facet is cut from the whole picture as it is cropped.
    const crop = field('part').value === 'whole' ? null : areas.get('whole')
    const [w, h] = inner()
    return crop ? [-w / 2 + crop[0] * w, -h / 2 + crop[1] * h, crop[2] * w, crop[3] * h] : [-w / 2, -h / 2, w, h]
  }

  function draw() {
    const [x, y, w, h] = whole()
    const unit = Math.max(w, h) / 100
    svg.setAttribute('viewBox', `${x} ${y} ${w} ${h}`)
    for (const [name, value] of [['x', x], ['y', y], ['width', w], ['height', h], ['viewBox', `${x} ${y} ${w} ${h}`]]) part('window').setAttribute(name, value)
    svg.style.aspectRatio = `${w} / ${h}`
    svg.style.maxWidth = `${(440 * w) / Math.max(w, h)}px`
    const image = svg.querySelector('image')
    for (const [name, value] of [['x', -width / 2], ['y', -height / 2], ['width', width], ['height', height]]) image.setAttribute(name, value)
    const mirror = field('mirror').checked ? 'scale(-1 1) ' : ''
    part('picture').setAttribute('transform', `rotate(${field('straighten').value}) ${mirror}rotate(${field('turn').value})`)
    const [left, top, across, down] = area()
    const box = [x + left * w, y + top * h, across * w, down * h]
    for (const [index, name] of ['x', 'y', 'width', 'height'].entries()) part('frame').setAttribute(name, box[index])
    part('veil').setAttribute('d', `M${x} ${y}h${w}v${h}h${-w}z M${box[0]} ${box[1]}h${box[2]}v${box[3]}h${-box[2]}z`)
    const thirds = [1, 2].map((n) => `M${box[0] + (box[2] * n) / 3} ${box[1]}v${box[3]}M${box[0]} ${box[1] + (box[3] * n) / 3}h${box[2]}`).join('')
    part('grid').innerHTML = `<path d="${thirds}"/>`
    for (const handle of svg.querySelectorAll('[data-handle]')) {
      const [isBottom, isRight] = [handle.dataset.handle[0] === 's', handle.dataset.handle[1] === 'e']
      handle.setAttribute('cx', box[0] + (isRight ? box[2] : 0))
      handle.setAttribute('cy', box[1] + (isBottom ? box[3] : 0))
      handle.setAttribute('r', unit * 2.4)
    }
    part('degrees').textContent = Number(field('straighten').value).toFixed(1)
    part('pixels').textContent = `${Math.round(across * w)} × ${Math.round(down * h)} px of the original`
  }

  function setArea(values) {
    for (const [index, name] of ['left', 'top', 'width', 'height'].entries()) field(name).value = Math.round(values[index] * 10000) / 100
    draw()
  }

  // A frame of the facet's shape, as large as it can be, where nobody has set one.
  function usualArea() {
    const [, , w, h] = whole()
    const shape = ratio()
    if (!shape) return [0, 0, 1, 1]
    const [across, down] = w / h > shape ? [(shape * h) / w, 1] : [1, w / shape / h]
    return [(1 - across) / 2, (1 - down) / 2, across, down]
  }

  function drag(event, move) {
    event.preventDefault()
    const box = svg.getBoundingClientRect()
    const start = [event.clientX, event.clientY]
    const before = area()
    svg.setPointerCapture(event.pointerId)
    const onMove = (moved) => move(before, (moved.clientX - start[0]) / box.width, (moved.clientY - start[1]) / box.height)
    svg.addEventListener('pointermove', onMove)
    svg.addEventListener('pointerup', () => svg.removeEventListener('pointermove', onMove), { once: true })
  }

  const between = (value, low, high) => Math.min(high, Math.max(low, value))
  const moveFrame = ([left, top, across, down], dx, dy) => setArea([between(left + dx, 0, 1 - across), between(top + dy, 0, 1 - down), across, down])
  function moveCorner(corner, [left, top, across, down], dx, dy) {
    const [isBottom, isRight] = [corner[0] === 's', corner[1] === 'e']
    let w = between(isRight ? across + dx : across - dx, SMALLEST, isRight ? 1 - left : left + across)
    let h = between(isBottom ? down + dy : down - dy, SMALLEST, isBottom ? 1 - top : top + down)
    const shape = ratio()
    if (shape) {
      const [, , pixelsAcross, pixelsDown] = whole()
      const most = [isRight ? 1 - left : left + across, isBottom ? 1 - top : top + down]
      w = Math.min(w, most[0], (most[1] * pixelsDown * shape) / pixelsAcross)
      h = (w * pixelsAcross) / shape / pixelsDown
    }
    setArea([isRight ? left : left + across - w, isBottom ? top : top + down - h, w, h])
  }

  part('frame').addEventListener('pointerdown', (event) => drag(event, moveFrame))
  for (const handle of svg.querySelectorAll('[data-handle]')) {
    handle.addEventListener('pointerdown', (event) => drag(event, (before, dx, dy) => moveCorner(handle.dataset.handle, before, dx, dy)))
  }
  for (const button of form.querySelectorAll('[data-turn]')) {
    button.addEventListener('click', () => {
      field('turn').value = (Number(field('turn').value) + Number(button.dataset.turn) + 360) % 360
      setArea(usualArea())
    })
  }
  part('mirror').addEventListener('click', () => {
    field('mirror').checked = !field('mirror').checked
    draw()
  })
  field('part').addEventListener('change', () => setArea(areas.get(field('part').value) ?? usualArea()))
  form.addEventListener('input', (event) => {
    if (event.target !== field('part')) draw()
  })
  draw()
}
