// Recipe: controls and text are two ways to change it, and what it makes is shown while it is changed.

import { moveRungs } from './ladder.js'

const form = document.querySelector('[data-recipe]')
const typed = form.querySelector('[data-toml]')
const base = form.querySelector('[data-base]')
const unsaved = document.querySelector('[data-unsaved]')
const back = document.querySelector('[data-back]')
const kept = base.value
const steps = []
let waiting
let looking
let asked = 0

/** Ask what the form makes of the recipe; `button` is one that was pressed, `still` leaves the drawing as it is. */
async function check({ button = '', still = false } = {}) {
  clearTimeout(waiting)
  const mine = ++asked
  const body = new FormData(form)
  if (button) body.set('do', button)
  const byText = body.get('toml') !== body.get('base')
  const answer = await fetch(form.dataset.recipe, { method: 'POST', body }).catch(() => undefined)
  if (!answer?.ok || mine !== asked) return // a later answer is on its way
  const page = new DOMParser().parseFromString(await answer.text(), 'text/html')
  const text = page.querySelector('[data-text]').value
  remember(byText ? typed.value : text)
  if (!byText) typed.value = text
  unsaved.hidden = typed.value === kept
  document.querySelector('[data-outcome]').replaceWith(page.querySelector('[data-outcome]'))
  awaitPictures()
  const fresh = page.querySelector('[data-controls]')
  // Controls that do not show what the text says must not be read as if they did.
  if (fresh || !byText) base.value = typed.value
  form.querySelector('[data-controls]').inert = !fresh && byText
  if (fresh) redraw(fresh, { byText, still })
}

/** Ask again for the pictures with the watermark until all are made. The rest of the page stays as it is. */
function awaitPictures() {
  clearTimeout(looking)
  if (!document.querySelector('[data-outcome] [data-waiting]')) return
  looking = setTimeout(async () => {
    const body = new FormData(form)
    body.delete('mark')
    const answer = await fetch(form.dataset.recipe, { method: 'POST', body }).catch(() => undefined)
    const page = answer?.ok ? new DOMParser().parseFromString(await answer.text(), 'text/html') : undefined
    const fresh = page?.querySelector('.marked')
    const pictures = document.querySelector('.marked')
    if (fresh && pictures) showNew(pictures, fresh)
    awaitPictures()
  }, 700)
}

/** Put in the pictures that are made now, without loading the others again. */
function showNew(pictures, fresh) {
  const items = pictures.querySelectorAll('li')
  fresh.querySelectorAll('li').forEach((item, at) => {
    if (items[at]?.querySelector('.marked-making') && item.querySelector('img')) items[at].replaceWith(item)
  })
  pictures.toggleAttribute('data-waiting', fresh.hasAttribute('data-waiting'))
}

function remember(text) {
  if (steps.at(-1) !== base.value && base.value !== text) steps.push(base.value)
  back.hidden = !steps.length
}

/** Bring the controls up to date, apart from the one that is being typed in. */
function redraw(fresh, { byText, still }) {
  const controls = form.querySelector('[data-controls]')
  if (!controls.children.length) controls.replaceChildren(...fresh.children)
  const busy = document.activeElement
  const typing = !byText && busy?.matches?.('input:not([type=checkbox], [type=radio], [type=file]), textarea')
  for (const part of controls.querySelectorAll('[data-part]')) {
    const other = fresh.querySelector(`[data-part="${part.dataset.part}"]`)
    if (!other) continue
    if (still || (typing && part.contains(busy))) {
      const drawing = part.querySelector('[data-drawing]')
      const now = other.querySelector('[data-drawing]')
      if (!drawing || !now) continue
      if (still) drawing.querySelector('figcaption').replaceWith(now.querySelector('figcaption'))
      else drawing.replaceWith(now)
      continue
    }
    part.querySelectorAll('details').forEach((fold, at) => {
      const same = other.querySelectorAll('details')[at]
      if (same && fold.open) same.open = true
    })
    const focus = part.contains(busy) ? placeOf(busy) : ''
    part.replaceWith(other)
    if (focus) other.querySelector(focus)?.focus()
  }
  enliven()
}

/** Return a selector that finds the same control once it has been drawn anew. */
function placeOf(element) {
  if (element.dataset?.place) return `[data-place="${element.dataset.place}"]`
  if (!element.name) return ''
  const value = element.matches('button, [type=radio]') ? `[value="${CSS.escape(element.value)}"]` : ':not([type=hidden])'
  return `[name="${CSS.escape(element.name)}"]${value}`
}

function enliven() {
  for (const part of document.querySelectorAll('[data-no-script]')) part.hidden = true
  for (const chip of form.querySelectorAll('[data-insert]')) chip.hidden = false
}

form.addEventListener('input', (event) => {
  if (event.target.type === 'file') return // it has its own event, once it is read
  unsaved.hidden = false
  clearTimeout(waiting)
  waiting = setTimeout(check, event.target === typed || event.target.matches('input:not([type=checkbox], [type=radio])') ? 200 : 0)
})
form.addEventListener('change', (event) => {
  // With a place or a text, further fields of the part appear. While it is typed in, a part is not redrawn.
  const hasMore = ['set:publish.to', 'set:finishing.watermark.text'].includes(event.target.name)
  if (event.target.type === 'file' || hasMore) check()
})
document.addEventListener('click', async (event) => {
  const button = event.target.closest('button')
  if (!button) return
  if (button.name === 'do' && button.form === form) {
    event.preventDefault()
    if (button.dataset.slow) {
      button.textContent = button.dataset.slow
      button.disabled = true
    }
    check({ button: button.value })
  } else if (button.dataset.insert) {
    insert(button.dataset.insert)
  } else if (button.dataset.suggest) {
    event.preventDefault()
    const answer = await fetch(button.dataset.suggest, { method: 'POST', body: new FormData(form) })
    const page = new DOMParser().parseFromString(await answer.text(), 'text/html')
    document.querySelector('[data-suggestion]')?.replaceWith(page.querySelector('[data-suggestion]'))
  } else if ('take' in button.dataset) {
    take(document.querySelector('[data-suggested]').value)
  } else if (button === back) {
    const before = steps.pop()
    if (before !== undefined) take(before)
    back.hidden = !steps.length
  }
})

/** Take another text in place of the one there is. */
function take(text) {
  typed.value = text
  base.value = `${text}\n# another` // so that it counts as typed
  const steady = steps.length
  check().then(() => {
    steps.length = steady
    back.hidden = !steps.length
  })
}

function insert(text) {
  const rule = form.querySelector('[name="set:names.rule"]')
  rule.setRangeText(text, rule.selectionStart, rule.selectionEnd, 'end')
  rule.focus()
  rule.dispatchEvent(new Event('input', { bubbles: true }))
}

awaitPictures()
moveRungs(form, (widths, moving) => check({ button: `rungs:${widths.join(',')}`, still: moving }))
enliven()
addEventListener('beforeunload', (event) => {
  if (!form.dataset.sent && typed.value !== typed.defaultValue) event.preventDefault()
})
form.addEventListener('submit', (event) => {
  if (!event.submitter?.hasAttribute('data-save')) form.dataset.sent = 1
  clearTimeout(waiting)
})
