// A run while it goes on: server-sent events first, asking every second where there are none.

const page = document.querySelector('[data-run]')
const find = (name) => page.querySelector(`[data-${name}]`)
let rowsShown = page.querySelectorAll('[data-body] tr').length
let fetchingRows = false

function duration(seconds) {
  if (seconds < 60) return `${seconds} s`
  return `${Math.floor(seconds / 60)} min ${String(seconds % 60).padStart(2, '0')} s`
}

async function addRows() {
  if (fetchingRows) return
  fetchingRows = true
  try {
    const answer = await fetch(`${page.dataset.rows}?skip=${rowsShown}`)
    if (answer.ok) {
      const template = document.createElement('template')
      template.innerHTML = await answer.text()
      const rows = template.content.querySelectorAll('tr')
      rowsShown += rows.length
      find('body').append(...rows)
    }
  } finally {
    fetchingRows = false
  }
}

function show(state) {
  if (state.over) return location.reload()
  if (state.state === 'looking') {
    find('done').textContent = state.to_look ? `${state.looked} of ${state.to_look} originals looked at` : ''
  } else {
    find('done').textContent = `${state.done} of ${state.total} originals, ${duration(state.elapsed_s)}`
  }
  const titles = { waiting: 'waiting its turn', looking: 'looking at the originals', stopping: 'stopping' }
  const headline = find('headline')
  headline.textContent = `${headline.textContent.split(':')[0]}: ${titles[state.state] ?? 'making renditions'}`
  find('bar').value = state.percent
  find('percent').textContent = `${state.percent} %`
  // The chip in the header asks by itself, and less often: here it must not say another figure.
  const chip = document.querySelector('[data-chip-bar]')
  const chipText = document.querySelector('[data-chip-text]')
  if (chip.value) {
    chip.value = state.percent
    chipText.textContent = chipText.textContent.replace(/\d+ %$/, `${state.percent} %`)
  }
  find('left').textContent = state.left_s === null ? '' : `about ${duration(state.left_s)} left`
  for (const [name, number] of Object.entries(state.outcomes)) {
    const place = page.querySelector(`[data-outcome="${name}"]`)
    if (place) place.textContent = number
  }
  if (state.done > rowsShown) addRows()
}

async function ask() {
  try {
    const answer = await fetch(page.dataset.state)
    if (answer.ok) show(await answer.json())
  } catch {
    // The server may be starting again; the next round asks once more.
  }
  setTimeout(ask, 1000)
}

if (page.dataset.live === 'yes') {
  const events = new EventSource(page.dataset.events)
  events.onmessage = (event) => show(JSON.parse(event.data))
  events.onerror = () => {
    events.close()
    ask()
  }
}
