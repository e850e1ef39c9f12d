// The blind test: real pixels, and the arrow keys.

const form = document.querySelector('[data-eye]')
for (const svg of form.querySelectorAll('svg')) {
  const [, , across, down] = svg.getAttribute('viewBox').split(' ').map(Number)
  svg.style.width = `${across / devicePixelRatio}px`
  svg.style.height = `${down / devicePixelRatio}px`
}
let sent = false
addEventListener('keydown', (event) => {
  const side = { ArrowLeft: 'left', ArrowRight: 'right' }[event.key]
  if (!side || sent || event.ctrlKey || event.altKey || event.metaKey) return
  event.preventDefault()
  sent = true
  form.requestSubmit(form.querySelector(`[value="${side}"]`))
})
