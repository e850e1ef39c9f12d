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

measure()
if (sheet.dataset.done === 'no') ask()
