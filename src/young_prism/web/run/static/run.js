// A run while it goes on: server-sent events first, asking every second where there are none.

import { reload } from '../js/reload.js'

const page = document.querySelector('[data-run]')
const find = (name) => page.querySelector(`[data-${name}]`)
let rowsShown = page.querySelectorAll('[data-body] tr').length
let fetchingRows = false

function duration(seconds) {
  if (seconds < 60) return `${seconds} s`
  return `${Math.floor(seconds / 60)} min ${String(seconds % 60).padStart(2, '0')} s`
}

// What each worker is at comes drawn from the server, as often as something changed, and never twice at a time.
let lanesShown = ''
let fetchingLanes = false

async function showLanes(state) {
  const now = JSON.stringify([state.lanes, state.made])
  if (fetchingLanes || now === lanesShown) return
  fetchingLanes = true
  try {
    const answer = await fetch(page.dataset.lanes)
    if (answer.ok) {
      find('lane-list').innerHTML = await answer.text()
      lanesShown = now
    }
  } finally {
    fetchingLanes = false
  }
}

async function showFailures(number) {
  const list = find('failure-list')
  if (Number(list.dataset.number) === number) return
  list.dataset.number = number
  const answer = await fetch(list.dataset.url)
  if (answer.ok) list.innerHTML = await answer.text()
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
  if (state.over) return reload()
  if (state.state === 'looking') {
    find('done').textContent = state.to_look ? `${state.looked} of ${state.to_look} originals inspected` : ''
  } else {
    find('done').textContent = `${state.done} of ${state.total} originals, ${duration(state.elapsed_s)}`
  }
  // A run that another one made way for, or that a person paused elsewhere: its buttons are others now.
  if ((state.state === 'stopping' || state.state === 'pausing') && page.dataset.phase !== state.state) {
    page.dataset.phase = state.state
    for (const button of page.querySelectorAll('.title-row button')) button.disabled = true
  }
  const titles = {
    waiting: 'waiting',
    looking: 'inspecting originals',
    stopping: 'stopping after the images in progress',
    pausing: 'pausing after the images in progress',
  }
  const headline = find('headline')
  headline.textContent = `${headline.textContent.split(':')[0]}: ${titles[state.state] ?? 'creating renditions'}`
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
  find('rate').textContent = state.rate ? `${state.rate.toLocaleString('en')} renditions a minute` : ''
  find('halted').hidden = !state.halted
  find('halted').textContent = state.halted
  for (const [name, number] of Object.entries(state.outcomes)) {
    const place = page.querySelector(`[data-outcome="${name}"]`)
    if (place) place.textContent = number.toLocaleString('en')
  }
  if (state.done > rowsShown) addRows()
  showLanes(state)
  showFailures(state.outcomes.failed ?? 0)
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
  // After a sleep the stream may be dead without a word: what is shown is asked for once.
  document.addEventListener('visibilitychange', async () => {
    if (document.hidden) return
    const answer = await fetch(page.dataset.state).catch(() => null)
    if (answer?.ok) show(await answer.json())
  })
  events.onmessage = (event) => show(JSON.parse(event.data))
  events.onerror = () => {
    events.close()
    ask()
  }
}
