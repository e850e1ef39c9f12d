// Desk: pictures are sent as soon as they are chosen, each with its progress, and one page asks until its picture is made.

import { reload } from '../../static/js/reload.js'

const AT_ONCE = 3
showForScript()
const form = document.querySelector('[data-bring]')

if (form) {
  form.querySelector('[data-camera]').hidden = !matchMedia('(pointer: coarse)').matches
  const list = form.querySelector('[data-sending]')
  const said = form.querySelector('[data-said]')
  const queue = []
  let going = 0
  let arrived = []
  let failed = 0

  for (const input of form.querySelectorAll('[data-files]')) {
    input.addEventListener('change', () => {
      add([...input.files])
      input.value = ''
    })
  }
  addEventListener('dragover', (event) => {
    event.preventDefault()
    form.classList.add('over')
  })
  addEventListener('dragleave', (event) => {
    if (!event.relatedTarget) form.classList.remove('over')
  })
  addEventListener('drop', (event) => {
    event.preventDefault()
    form.classList.remove('over')
    add([...event.dataTransfer.files])
  })
  addEventListener('paste', (event) => {
    if (event.clipboardData?.files.length && !event.target.closest('input, textarea')) add([...event.clipboardData.files])
  })

  function add(files) {
    for (const file of files) {
      const line = document.createElement('li')
      const name = document.createElement('span')
      const bar = document.createElement('progress')
      const word = document.createElement('span')
      name.textContent = file.name
      bar.max = 1
      bar.value = 0
      bar.setAttribute('aria-label', `Sending ${file.name}`)
      line.append(name, bar, word)
      list.append(line)
      queue.push({ file, line, bar, word })
    }
    next()
  }

  function next() {
    while (going < AT_ONCE && queue.length) send(queue.shift())
    if (!going && !queue.length && (arrived.length || failed)) over()
  }

  function send(one) {
    going++
    if (one.file.size > Number(form.dataset.max)) {
      refused(one, 'It is over the limit. Save it smaller.')
      return
    }
    const request = new XMLHttpRequest() // fetch has no progress of what is sent
    const source = form.elements.source?.value ?? ''
    request.open('POST', `${form.action}?${new URLSearchParams({ name: one.file.name, source })}`)
    request.setRequestHeader('X-CSRFToken', form.elements.csrf_token.value)
    request.setRequestHeader('Content-Type', 'application/octet-stream')
    request.responseType = 'json'
    request.upload.onprogress = (event) => (one.bar.value = event.loaded / event.total)
    request.onerror = () => refused(one, 'The connection broke. Choose it again.')
    request.onload = () => {
      if (request.status >= 300 || !request.response) {
        refused(one, `${request.response?.detail ?? `The server said ${request.status}.`} ${request.response?.remedy ?? ''}`)
        return
      }
      arrived.push(request.response)
      const link = document.createElement('a')
      link.href = request.response.href
      link.textContent = request.response.new ? 'here' : 'was here already'
      one.bar.remove()
      one.word.replaceChildren(link)
      going--
      next()
    }
    request.send(one.file)
  }

  function refused(one, why) {
    failed++
    going--
    one.bar.remove()
    one.line.classList.add('error')
    one.word.textContent = why
    next()
  }

  function over() {
    if (arrived.length === 1 && !failed) {
      location.assign(arrived[0].href)
      return
    }
    said.textContent = `${arrived.length} arrived${failed ? `, ${failed} could not be taken` : ''}.`
    if (!failed) reload()
    arrived = []
    failed = 0
  }
}

// The list: while something is being made, it is asked for again, and only what is new is put in its place.
const cards = document.querySelector('.cards')
if (cards && cards.textContent.includes('being made')) follow(() => document.querySelector('.cards').textContent.includes('being made'), ['.cards'])

const item = document.querySelector('[data-desk-item]')
if (item) {
  const state = () => item.querySelector('[data-part=state]')
  if (state().dataset.state === 'working') {
    follow(() => state().dataset.state === 'working', ['[data-part=state]', '[data-part=picture]', '[data-part=facts]', '[data-part=gives]', '[data-part=acts]'])
  }
  item.addEventListener('submit', () => setTimeout(() => follow(() => state().dataset.state === 'working', ['[data-part=state]', '[data-part=gives]', '[data-part=acts]']), 300))
  watchWords(item.querySelector('[data-words]'))
}

function showForScript() {
  for (const needless of document.querySelectorAll('[data-no-script]')) needless.hidden = true
  for (const button of document.querySelectorAll('[data-copy]')) button.hidden = false
}

async function follow(working, parts) {
  for (let round = 0; working() || round === 0; round++) {
    await new Promise((resolve) => setTimeout(resolve, round < 10 ? 400 : 1500))
    if (document.hidden) continue
    try {
      const answer = await fetch(location.href)
      if (!answer.ok) continue
      const page = new DOMParser().parseFromString(await answer.text(), 'text/html')
      for (const part of parts) {
        const old = document.querySelector(part)
        const fresh = page.querySelector(part)
        // Where somebody is at work, it stays as it is.
        if (old && fresh && !old.contains(document.activeElement) && old.outerHTML !== fresh.outerHTML) old.replaceWith(document.adoptNode(fresh))
      }
      showForScript()
    } catch {
      // The server may be away for a moment; the next round asks again.
    }
  }
}

function watchWords(words) {
  if (!words) return
  const { title, alt, decorative } = words.elements
  const proposal = words.querySelector('[data-proposal]')
  const named = words.querySelector('[data-name]')
  const renames = words.querySelector('[data-renames]')
  let asked = 0

  const propose = () => {
    const short = alt.value.trim().split(/[.,;:!?]/)[0].split(/\s+/).slice(0, 6).join(' ')
    proposal.hidden = Boolean(title.value.trim()) || short.length < 4 || title.readOnly
    const button = proposal.querySelector('button')
    button.textContent = `Call it “${short}”`
    button.dataset.take = short
  }
  const name = async () => {
    const mine = ++asked
    const given = title.value.trim()
    if (renames) renames.hidden = given === title.defaultValue
    if (!given) {
      named.textContent = ''
      return
    }
    const answer = await fetch(`${item.dataset.nameUrl}?${new URLSearchParams({ title: given })}`)
    if (mine !== asked || !answer.ok) return
    const { stem } = await answer.json()
    const code = document.createElement('span')
    code.className = 'mono'
    code.textContent = `${stem}-…`
    named.replaceChildren('Files are called ', code)
  }
  const decide = () => {
    if (decorative.disabled) return
    alt.disabled = decorative.checked
  }
  proposal.querySelector('button').addEventListener('click', (event) => {
    title.value = event.target.dataset.take
    propose()
    name()
    title.focus()
  })
  title.addEventListener('input', () => {
    propose()
    name()
  })
  alt.addEventListener('input', propose)
  decorative.addEventListener('change', decide)
  decide()
  propose()
  if (!title.value && matchMedia('(min-width: 900px)').matches) title.focus()
}
