// A few pictures converted at once: files chosen or dropped, sent with progress, results that come by themselves, and the
// original as long as a key is held.

const POLL_MS = 700

for (const form of document.querySelectorAll('[data-convert]')) {
  const input = form.querySelector('[data-files]')
  const chosen = form.querySelector('[data-chosen]')
  const problem = form.querySelector('[data-problem]')
  const hint = chosen.textContent
  const size = (bytes) => (bytes < 1e6 ? `${Math.round(bytes / 1e3)} kB` : `${(bytes / 1e6).toFixed(1)} MB`)
  const showChosen = () => {
    const files = [...input.files]
    const bytes = size(files.reduce((sum, file) => sum + file.size, 0))
    chosen.textContent = files.length > 1 ? `${files.length} images, ${bytes}` : files.length ? `${files[0].name}, ${bytes}` : hint
    problem.textContent = ''
  }
  input.addEventListener('change', showChosen)
  const isFiles = (event) => event.dataTransfer?.types.includes('Files')
  for (const name of ['dragenter', 'dragover', 'dragleave', 'drop']) {
    form.addEventListener(name, (event) => {
      if (!isFiles(event)) return
      // The rest of the page takes dropped files for a new source.
      event.preventDefault()
      event.stopPropagation()
      form.classList.toggle('over', name === 'dragenter' || name === 'dragover')
      if (name !== 'drop') return
      input.files = event.dataTransfer.files
      showChosen()
    })
  }
  form.addEventListener('submit', (event) => {
    event.preventDefault()
    if (!input.files.length) {
      problem.textContent = 'Choose one to fifty images first.'
      input.focus()
      return
    }
    send(form, problem)
  })
}

function send(form, problem) {
  const bar = form.querySelector('[data-sent]')
  const button = form.querySelector('[data-go]')
  const request = new XMLHttpRequest()
  const fail = (text) => {
    problem.textContent = text
    button.disabled = false
    bar.hidden = true
  }
  button.disabled = true
  bar.hidden = false
  problem.textContent = ''
  request.open('POST', form.action)
  // Not fetch: it does not tell how much of a body has gone out.
  request.upload.onprogress = (event) => (bar.value = event.loaded / event.total)
  request.onerror = () => fail('The connection broke. Convert again.')
  request.onload = () => {
    if (request.status < 300) return location.assign(request.responseURL)
    const page = new DOMParser().parseFromString(request.responseText, 'text/html')
    fail(page.querySelector('[data-refused]')?.textContent ?? `The server said ${request.status}. Convert again.`)
  }
  request.send(new FormData(form))
}

for (const select of document.querySelectorAll('[data-measure]')) {
  const field = select.form.querySelector('[data-size]')
  const samples = { width: '1920', 'longest-side': '1920', percent: '50', box: '1920 × 1080' }
  select.addEventListener('change', () => {
    field.hidden = select.value === 'own'
    field.querySelector('[data-size-label]').textContent = select.selectedOptions[0].textContent
    field.querySelector('input').value = samples[select.value] ?? ''
  })
}

// The field beside a way to find the quality chooses that way.
for (const field of document.querySelectorAll('.convert-quality .slim input')) {
  field.addEventListener('input', () => (field.form.querySelector(`input[name=by][value=${field.name}]`).checked = true))
}

const conversion = document.querySelector('[data-conversion]')
if (conversion) {
  const poll = async () => {
    if (!conversion.querySelector('[data-pending]')) return
    try {
      const page = new DOMParser().parseFromString(await (await fetch(location.href)).text(), 'text/html')
      for (const part of conversion.querySelectorAll('[data-part]')) {
        const fresh = page.querySelector(`[data-part="${part.dataset.part}"]`)
        // A part with the focus is not replaced.
        if (fresh && !part.contains(document.activeElement)) part.replaceWith(document.adoptNode(fresh))
      }
      document.title = page.title
      fit()
    } catch {
      // The server may be away for a moment; the next round asks again.
    }
    setTimeout(poll, POLL_MS)
  }
  fit()
  setTimeout(poll, POLL_MS)
}

// Real pixels: one of the picture for one of the screen.
function fit() {
  for (const stage of document.querySelectorAll('.flip-pictures')) stage.style.width = `${stage.dataset.width / devicePixelRatio}px`
}

const isTyping = (event) => event.ctrlKey || event.altKey || event.metaKey || event.target.closest('input:not([type=checkbox]), textarea, select')
for (const [name, shown] of [['keydown', true], ['keyup', false]]) {
  addEventListener(name, (event) => {
    const flip = document.querySelector('[data-flip-switch]')
    if (flip && !isTyping(event) && event.key.toLowerCase() === 'f') flip.checked = shown
  })
}
