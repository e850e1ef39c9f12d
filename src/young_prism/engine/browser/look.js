// What a page tells about its images. Each function is evaluated in the page by `visit.py`.
({
  // Before the page's own scripts: collects layout shift and the largest contentful paint.
  observe() {
    const seen = (window.__youngPrism = { shift: 0, largest: null })
    const observe = (type, take) =>
      new PerformanceObserver((list) => list.getEntries().forEach(take)).observe({ type, buffered: true })
    observe('layout-shift', (entry) => {
      if (!entry.hadRecentInput) seen.shift += entry.value
    })
    observe('largest-contentful-paint', (entry) => {
      seen.largest = entry.element
    })
  },

  async frame() {
    for (let count = 0; count < 2; count++) await new Promise((next) => requestAnimationFrame(next))
  },

  // Lets the page's own scripts lay it out; layout shift counts from here.
  async settle(milliseconds) {
    await new Promise((next) => setTimeout(next, milliseconds))
    if (window.__youngPrism) window.__youngPrism.shift = 0
  },

  // What is within the viewport before anybody scrolls.
  firstView() {
    return [...document.images].map((image) => {
      const box = image.getBoundingClientRect()
      const isShown = box.width > 0 && box.height > 0 && image.checkVisibility({ visibilityProperty: true })
      return {
        inFirstView: isShown && box.top < innerHeight && box.bottom > 0 && box.left < innerWidth && box.right > 0,
        loading: image.getAttribute('loading') || '',
        isLargest: window.__youngPrism?.largest === image,
      }
    })
  },

  // Scrolls to the end, a viewport at a time or in larger steps on a long page, so that lazy images load and late shifts show.
  async scrollThrough(mostSteps) {
    const step = Math.max(innerHeight, document.documentElement.scrollHeight / mostSteps)
    for (let count = 0; count < mostSteps; count++) {
      const before = scrollY
      scrollBy({ top: step, behavior: 'instant' })
      await new Promise((next) => requestAnimationFrame(next))
      const loading = [...document.images].filter((image) => !image.complete && image.loading !== 'lazy')
      if (loading.length) {
        const timeout = new Promise((next) => setTimeout(next, 2000))
        await Promise.race([Promise.all(loading.map((image) => image.decode().catch(() => {}))), timeout])
      }
      if (scrollY === before) break
    }
    await new Promise((next) => requestAnimationFrame(() => requestAnimationFrame(next)))
  },

  loadAll() {
    for (const image of document.images) image.loading = 'eager'
  },

  allLoaded() {
    return [...document.images].every((image) => image.complete)
  },

  images() {
    return [...document.images].map((image) => {
      const box = image.getBoundingClientRect()
      const named = image.getAttribute('data-young-prism-original') || image.getAttribute('src') || ''
      let address = ''
      try {
        address = named && new URL(named, document.baseURI).href
      } catch {
        // An address that is none leads nowhere.
      }
      return {
        address,
        place: image.dataset.youngPrismPlace ?? null,
        fetched: image.currentSrc,
        width: box.width,
        height: box.height,
        naturalWidth: image.naturalWidth,
        naturalHeight: image.naturalHeight,
        objectFit: getComputedStyle(image).objectFit,
      }
    })
  },

  boxes() {
    return [...document.images].map((image) => {
      const box = image.getBoundingClientRect()
      return [box.width, box.height]
    })
  },

  layoutShift() {
    return window.__youngPrism?.shift ?? 0
  },

  // Widths at which a media condition of the stylesheets changes its answer, as far as they may be read.
  breakpoints() {
    const widths = new Set()
    const read = (rules) => {
      for (const rule of rules) {
        const condition = rule.media?.mediaText ?? ''
        for (const [, number, unit] of condition.matchAll(/width[^)]*?([\d.]+)(px|em|rem)/g)) {
          widths.add(Math.round(Number(number) * (unit === 'px' ? 1 : 16)))
        }
        if (rule.cssRules) read(rule.cssRules)
        if (rule.styleSheet) readSheet(rule.styleSheet)
      }
    }
    const readSheet = (sheet) => {
      try {
        read(sheet.cssRules)
      } catch {
        // The stylesheet of another host is not ours to read.
      }
    }
    for (const sheet of document.styleSheets) readSheet(sheet)
    return [...widths]
  },
})
