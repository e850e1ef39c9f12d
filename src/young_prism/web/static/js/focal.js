// The focal point: pressed, or moved with the arrow keys; the cuts are drawn anew at once.
document.addEventListener('click', (event) => {
  const image = event.target.closest?.('[data-focal] input[type=image]')
  if (!image || !event.detail) return // pressed by a key: nothing was pointed at
  event.preventDefault()
  const box = image.getBoundingClientRect()
  setFocal(image, (event.clientX - box.left) / box.width, (event.clientY - box.top) / box.height)
})
document.addEventListener('keydown', (event) => {
  const image = event.target.closest?.('[data-focal] input[type=image]')
  const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key]
  if (!image || !(step || event.key === 'Enter')) return
  event.preventDefault()
  if (step) setFocal(image, Number(image.dataset.x) + step[0] / 50, Number(image.dataset.y) + step[1] / 50)
})

let setting = 0
async function setFocal(image, x, y) {
  const mine = ++setting
  image.dataset.x = Math.min(1, Math.max(0, x))
  image.dataset.y = Math.min(1, Math.max(0, y))
  const body = new FormData(image.form)
  for (const [name, value] of [['focal.x', image.dataset.x], ['focal.y', image.dataset.y], ['width', 1], ['height', 1]]) body.set(name, value)
  const answer = await fetch(image.form.action, { method: 'POST', body })
  if (!answer.ok || mine !== setting) return
  const page = new DOMParser().parseFromString(await answer.text(), 'text/html')
  document.querySelector('[data-cuts]').replaceWith(page.querySelector('[data-cuts]'))
  document.querySelector('[data-focal] input[type=image]').focus()
}
