// A contact sheet that fills while its pictures are made.

const sheet = document.querySelector('[data-sheet]')
const page = Math.random().toString(36).slice(2, 10)

function measure() {
  // Real pixels on any screen.
  for (const svg of sheet.querySelectorAll('svg')) {
    const [, , across, down] = svg.getAttribute('viewBox').split(' ').map(Number)
    svg.style.width = `${across / devicePixelRatio}px`
    svg.style.height = `${down / devicePixelRatio}px`
  }
}

async function ask() {
  try {
    const answer = await fetch(`${sheet.dataset.state}${location.search}&page=${page}`)
    const now = await answer.json()
    if (sheet.dataset.last !== now.html && !sheet.contains(document.activeElement)) {
      sheet.innerHTML = now.html
      sheet.dataset.last = now.html
      measure()
    }
    sheet.dataset.done = now.done ? 'yes' : 'no'
  } catch {
    // The server may be away for a moment; the next round asks again.
  }
  if (sheet.dataset.done === 'no') setTimeout(ask, 500)
}

// Every original at once, as long as the key is held.
const isTyping = (event) => event.ctrlKey || event.altKey || event.metaKey || event.target.closest('input:not([type=checkbox]), textarea, select')
const flip = document.querySelector('[data-flip-all]')
for (const [name, held] of [['keydown', true], ['keyup', false]]) {
  addEventListener(name, (event) => {
    if (flip && !isTyping(event) && event.key.toLowerCase() === 'f') flip.checked = held
  })
}

for (const needless of document.querySelectorAll('[data-no-script]')) needless.hidden = true
measure()
if (sheet.dataset.done === 'no') ask()
