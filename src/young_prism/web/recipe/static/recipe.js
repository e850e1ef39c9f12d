// Recipe: what it makes, while it is typed.

const form = document.querySelector('[data-recipe]')
const unsaved = document.querySelector('[data-unsaved]')
let waiting
let asked = 0

async function check() {
  const mine = ++asked
  const answer = await fetch(form.dataset.recipe, { method: 'POST', body: new FormData(form) })
  if (!answer.ok || mine !== asked) return // a later answer is on its way
  const page = new DOMParser().parseFromString(await answer.text(), 'text/html')
  document.querySelector('[data-outcome]').replaceWith(page.querySelector('[data-outcome]'))
}

form.addEventListener('input', () => {
  unsaved.hidden = false
  clearTimeout(waiting)
  waiting = setTimeout(check, 200)
})

for (const part of document.querySelectorAll('[data-no-script]')) part.hidden = true
for (const select of document.querySelectorAll('[data-submit]')) select.addEventListener('change', () => select.form.requestSubmit())

const typed = form.querySelector('[data-toml]')
addEventListener('beforeunload', (event) => {
  if (!form.dataset.sent && typed.value !== typed.defaultValue) event.preventDefault()
})
form.addEventListener('submit', () => (form.dataset.sent = 1))
