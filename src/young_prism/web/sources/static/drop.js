// Files, folders and zips dropped in the browser: three uploads at a time, each with its progress, retried, and skipped
// where the server has the same bytes under the same name.

const AT_ONCE = 3
const TRIES = 3
const CHUNK_NOTE = 60 // finished names that stay in sight

const bytes = (n) => {
  for (const unit of ['B', 'kB', 'MB', 'GB']) {
    if (n < 999.5 || unit === 'GB') return `${n < 9.95 && unit !== 'B' ? n.toFixed(1) : Math.round(n)} ${unit}`
    n /= 1000
  }
}

const wait = (ms) => new Promise((resolve) => setTimeout(resolve, ms))

async function* filesIn(entry, path) {
  if (entry.isFile) {
    yield { path: path + entry.name, file: await new Promise((resolve, reject) => entry.file(resolve, reject)) }
    return
  }
  const reader = entry.createReader()
  for (;;) {
    // A reader hands over a hundred entries at most each time.
    const batch = await new Promise((resolve, reject) => reader.readEntries(resolve, reject))
    if (!batch.length) return
    for (const child of batch) yield* filesIn(child, `${path}${entry.name}/`)
  }
}

async function digest(file) {
  const hash = new Uint8Array(await crypto.subtle.digest('SHA-256', await file.arrayBuffer()))
  return {
    hex: [...hash].map((byte) => byte.toString(16).padStart(2, '0')).join(''),
    base64: btoa(String.fromCharCode(...hash)),
  }
}

class Refused extends Error {
  constructor(title, remedy) {
    super(title)
    this.remedy = remedy
  }
}

class Sending {
  constructor(form) {
    this.form = form
    this.token = form.elements.csrf_token.value
    this.part = (name) => form.querySelector(`[data-drop-${name}]`)
    this.queue = []
    this.failed = []
    this.notes = []
    this.total = this.sent = this.bytes = this.bytesSent = this.skipped = this.workers = 0
    this.places = null
    this.part('retry').addEventListener('click', () => this.retry())
  }

  async ask(method, url, body, headers = {}) {
    const answer = await fetch(url, { method, body, headers: { 'X-CSRFToken': this.token, Accept: 'application/json', ...headers } })
    const said = await answer.json().catch(() => ({}))
    if (!answer.ok) throw new Refused(said.detail || `The server said ${answer.status}.`, said.remedy || 'Try again.')
    return said
  }

  async add(files) {
    if (!files.length) return
    this.part('progress').hidden = false
    this.form.scrollIntoView({ block: 'nearest' })
    this.part('go').hidden = true
    if (files.length > Number(this.form.dataset.maxFiles)) {
      this.refuse({ path: `${files.length} files` }, new Refused(`That is over the limit of ${this.form.dataset.maxFiles} files.`, 'Bring them in parts.'))
      return
    }
    if (!this.places) {
      const name = new FormData()
      const given = this.form.elements.name?.value.trim()
      const folder = files[0].path.includes('/') ? files[0].path.split('/')[0] : files[0].path.replace(/\.zip$/i, '')
      // A folder that was dropped before is gone on with: what has arrived of it is skipped.
      if (!given && files[0].path.includes('/')) name.set('folder', '1')
      name.set('name', given || (files.length > 1 && !files[0].path.includes('/') ? '' : folder))
      try {
        this.places = await this.ask('POST', this.form.action, name)
      } catch (error) {
        this.refuse({ path: 'The new source' }, error)
        return
      }
    }
    try {
      await this.ask('POST', `${this.places.known}?count=${files.length}`, '[]', { 'Content-Type': 'application/json' })
    } catch (error) {
      this.refuse({ path: `${files.length} files` }, error)
      return
    }
    for (const one of files) {
      one.zip = /\.zip$/i.test(one.path)
      const most = Number(one.zip ? this.form.dataset.maxZip : this.form.dataset.maxFile)
      this.total += 1
      if (one.file.size > most) this.refuse(one, new Refused(`It has ${bytes(one.file.size)}, over the limit of ${bytes(most)}.`, 'Save it smaller.'))
      else {
        this.bytes += one.file.size
        one.counted = true
        this.queue.push(one)
      }
    }
    this.work()
  }

  work() {
    while (this.workers < AT_ONCE && this.queue.length) {
      this.workers += 1
      this.loop()
    }
    this.show()
  }

  async loop() {
    while (this.queue.length) await this.one(this.queue.shift())
    this.workers -= 1
    if (!this.workers) await this.finish()
  }

  async one(file) {
    const row = this.part('active').appendChild(document.createElement('li'))
    const bar = document.createElement('progress')
    row.append(Object.assign(document.createElement('span'), { className: 'mono path', textContent: file.path }), bar)
    bar.max = file.file.size || 1
    bar.value = 0
    for (let attempt = 1; ; attempt += 1) {
      let counted = 0
      const progress = (loaded) => {
        this.bytesSent += loaded - counted
        counted = bar.value = loaded
        this.show()
      }
      try {
        await this.send(file, progress)
        progress(file.file.size)
        this.sent += 1
        break
      } catch (error) {
        progress(0)
        if (error instanceof Refused || attempt === TRIES) {
          this.refuse(file, error)
          break
        }
        await wait(500 * 2 ** attempt)
      }
    }
    row.remove()
    this.show()
  }

  async send(file, progress) {
    let hash
    try {
      if (!file.zip) hash = await digest(file.file)
    } catch {
      throw new Refused('The browser cannot read it any more.', 'Choose it again.')
    }
    if (hash) {
      const [here] = await this.ask('POST', this.places.known, JSON.stringify([{ path: file.path, sha256: hash.hex }]), { 'Content-Type': 'application/json' })
      if (here) {
        this.skipped += 1
        return
      }
    }
    const said = await this.put(file, hash, progress)
    if (said.note) this.note(said.note)
    for (const one of said.files || []) if (one.note) this.note(one.note)
    for (const one of said.refused || []) this.refuse({ path: one.file, gone: true }, new Refused(one.title, one.remedy))
  }

  put(file, hash, progress) {
    // Not fetch: it does not tell how much of a body has gone out.
    return new Promise((resolve, reject) => {
      const request = new XMLHttpRequest()
      request.open('PUT', `${file.zip ? this.places.zip : this.places.file}?path=${encodeURIComponent(file.path)}`)
      request.setRequestHeader('X-CSRFToken', this.token)
      request.setRequestHeader('Content-Type', 'application/octet-stream')
      if (hash) request.setRequestHeader('Repr-Digest', `sha-256=:${hash.base64}:`)
      request.responseType = 'json'
      request.upload.onprogress = (event) => progress(Math.min(event.loaded, file.file.size))
      request.onerror = () => reject(new Error('The connection broke.'))
      request.onload = () => {
        if (request.status < 300) resolve(request.response)
        else if (request.status >= 500 && request.status !== 507) reject(new Error(`The server said ${request.status}.`))
        else reject(new Refused(request.response?.detail || `The server said ${request.status}.`, request.response?.remedy || ''))
      }
      request.send(file.file)
    })
  }

  refuse(file, error) {
    if (!file.gone && file.file) {
      this.failed.push(file)
      if (file.counted) this.bytes -= file.file.size
      file.counted = false
    }
    const row = this.part('failed').appendChild(document.createElement('li'))
    row.append(
      Object.assign(document.createElement('span'), { className: 'mono', textContent: file.path }),
      ` ${error.message} ${error.remedy ?? 'Upload it again.'}`,
    )
  }

  note(text) {
    if (this.notes.push(text) > CHUNK_NOTE) return
    this.part('failed').appendChild(Object.assign(document.createElement('li'), { textContent: text }))
  }

  retry() {
    const again = this.failed.splice(0)
    this.part('failed').replaceChildren()
    this.total -= again.length
    this.add(again)
  }

  show() {
    const left = this.queue.length + this.workers
    const skipped = this.skipped ? `, ${this.skipped} of them here already` : ''
    this.part('said').textContent = left ? `${this.sent} of ${this.total} files` : `${this.sent} of ${this.total} files are here${skipped}`
    this.part('bytes').textContent = this.failed.length ? `${bytes(this.bytesSent)} · ${this.failed.length} not taken` : `${bytes(this.bytesSent)} of ${bytes(this.bytes)}`
    this.part('bar').value = this.bytes ? this.bytesSent / this.bytes : 1
    this.part('retry').hidden = Boolean(left) || !this.failed.length
  }

  async finish() {
    this.show()
    if (!this.places || !this.sent) return
    const { intake } = await this.ask('POST', this.places.done)
    const go = this.part('go')
    go.href = intake
    go.hidden = false
    if (!this.failed.length && !this.part('failed').children.length) location.assign(intake)
    else go.focus()
  }
}

for (const form of document.querySelectorAll('[data-drop]')) {
  const sending = new Sending(form)
  for (const part of form.querySelectorAll('[data-needs-script]')) part.hidden = false
  for (const part of form.querySelectorAll('[data-no-script]')) part.hidden = true
  const fromInput = (input) => {
    sending.add([...input.files].map((file) => ({ path: file.webkitRelativePath || file.name, file })))
    input.value = ''
  }
  for (const input of form.querySelectorAll('input[type=file]')) input.addEventListener('change', () => fromInput(input))
  form.addEventListener('submit', (event) => event.preventDefault())
  // The whole page takes what is dropped: nobody aims well with a folder in hand.
  let depth = 0
  const files = (event) => event.dataTransfer?.types.includes('Files')
  document.addEventListener('dragenter', (event) => {
    if (!files(event)) return
    form.classList.toggle('over', Boolean(++depth))
    form.scrollIntoView({ block: 'nearest' })
  })
  document.addEventListener('dragleave', (event) => {
    if (files(event)) form.classList.toggle('over', Boolean(--depth))
  })
  document.addEventListener('dragover', (event) => {
    if (files(event)) event.preventDefault()
  })
  document.addEventListener('drop', async (event) => {
    if (!files(event)) return
    event.preventDefault()
    depth = 0
    form.classList.remove('over')
    const entries = [...event.dataTransfer.items].map((item) => item.webkitGetAsEntry?.()).filter(Boolean)
    const plain = [...event.dataTransfer.files]
    const found = []
    for (const entry of entries) for await (const one of filesIn(entry, '')) found.push(one)
    if (!entries.length) found.push(...plain.map((file) => ({ path: file.name, file })))
    // What a system hides in its folders is nobody's picture.
    sending.add(found.filter(({ path }) => !path.split('/').some((part) => part.startsWith('.'))))
  })
  addEventListener('beforeunload', (event) => {
    if (sending.workers) event.preventDefault()
  })
}
