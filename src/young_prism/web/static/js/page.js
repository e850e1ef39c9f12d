// Every page: theme without a reload, the chip of a run that is going on, times in the reader's own zone.

const chip = document.querySelector('[data-chip]')

async function showActiveRun() {
  if (document.hidden) return
  try {
    const answer = await fetch(chip.dataset.url, { headers: { Accept: 'application/json' } })
    if (!answer.ok) return
    const run = await answer.json()
    chip.hidden = !run.active
    if (!run.active) return
    chip.href = run.href
    chip.querySelector('[data-chip-text]').textContent = `${run.name}: ${run.percent} %`
    chip.querySelector('[data-chip-bar]').value = run.percent
  } catch {
    // The server may be away for a moment; the next round asks again.
  }
}

if (chip) {
  showActiveRun()
  setInterval(showActiveRun, 3000)
  document.addEventListener('visibilitychange', showActiveRun)
}

const themes = document.querySelector('[data-theme-form]')
themes?.addEventListener('submit', (event) => {
  event.preventDefault()
  const choice = event.submitter.value
  const age = choice === 'system' ? 0 : 31536000
  document.cookie = `theme=${choice}; path=/; max-age=${age}; samesite=strict`
  if (choice === 'system') delete document.documentElement.dataset.theme
  else document.documentElement.dataset.theme = choice
  for (const button of themes.querySelectorAll('button')) {
    if (button === event.submitter) button.setAttribute('aria-pressed', 'true')
    else button.removeAttribute('aria-pressed')
  }
})

// The server writes UTC; the form is the same, in the time zone of the reader.
const timestamps = new Intl.DateTimeFormat('en-GB', {
  day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit',
})
for (const time of document.querySelectorAll('[data-time]')) {
  time.textContent = timestamps.format(new Date(time.dateTime))
}

for (const menu of document.querySelectorAll('[data-switch], .more')) {
  document.addEventListener('click', (event) => {
    if (menu.open && !menu.contains(event.target)) menu.open = false
  })
  menu.addEventListener('keydown', (event) => {
    if (event.key !== 'Escape') return
    menu.open = false
    menu.querySelector('summary').focus()
  })
}

// A form whose answer is on its own page: the parts that it concerns are fetched while it is changed, one request at a time.
for (const form of document.querySelectorAll('form[data-swap]')) {
  let busy = false
  let again = false
  const swap = async () => {
    if (busy) {
      again = true
      return
    }
    busy = true
    const address = new URL(location.href)
    address.search = new URLSearchParams([...new FormData(form)].filter(([, value]) => value)).toString()
    try {
      const page = new DOMParser().parseFromString(await (await fetch(address)).text(), 'text/html')
      for (const part of document.querySelectorAll('[data-part]')) {
        const fresh = page.querySelector(`[data-part="${part.dataset.part}"]`)
        // Where somebody is at work inside a part, it stays: it says already what was done there.
        if (fresh && !part.contains(document.activeElement)) part.replaceWith(document.adoptNode(fresh))
      }
      showCopying()
      document.dispatchEvent(new Event('swapped'))
      history.replaceState(null, '', address)
    } finally {
      busy = false
      if (again) {
        again = false
        swap()
      }
    }
  }
  form.addEventListener('input', swap)
  form.addEventListener('submit', (event) => {
    event.preventDefault()
    swap()
  })
}

// Copying: the button names what it copies; without a clipboard that is selected.
function showCopying() {
  for (const button of document.querySelectorAll('[data-copy]')) button.hidden = false
}
showCopying()
document.addEventListener('click', async ({ target }) => {
  const button = target.closest?.('[data-copy]')
  if (!button) return
  const text = document.querySelector(button.dataset.copy)
  const said = button.parentElement.querySelector('[data-copied]')
  try {
    await navigator.clipboard.writeText(text.textContent)
    said.textContent = 'Copied'
  } catch {
    getSelection().selectAllChildren(text)
    said.textContent = 'Selected: press Ctrl+C'
  }
  setTimeout(() => (said.textContent = ''), 3000)
})

// A choice that is all its form says is sent at once.
document.addEventListener('change', ({ target }) => {
  if (target.matches?.('[data-submit]')) target.form.requestSubmit()
})

const help = document.querySelector('[data-help]')
addEventListener('keydown', (event) => {
  if (!help || event.ctrlKey || event.altKey || event.metaKey || event.target.closest('input, textarea, select')) return
  if (event.key === '?') help.open = !help.open
  else if (event.key === 'Escape') help.open = false
})
document.addEventListener('click', ({ target }) => {
  if (help?.open && !help.contains(target)) help.open = false
})

// Who points at a way to Proof is likely to go there, and its workers take a second to start.
let warmed = false
for (const event of ['pointerover', 'focusin']) {
  document.addEventListener(event, ({ target }) => {
    const way = target.closest?.('a[href*="/proof"]')?.getAttribute('href')?.match(/^(\/s\/[^/]+\/proof)(\?|$)/)
    if (!way || warmed) return
    warmed = true
    fetch(`${way[1]}/warm`).catch(() => {})
  })
}
