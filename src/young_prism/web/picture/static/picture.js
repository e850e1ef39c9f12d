// One picture: what the browser fetched, and its focal point.

const live = document.querySelector('[data-live] picture img, [data-live] > img')
const fetched = document.querySelector('[data-fetched]')

function sayFetched() {
  if (!live.currentSrc) return
  // Compared decoded: two ways of percent-encoding one path are equally right.
  const path = decodeURIComponent(new URL(live.currentSrc).pathname)
  const links = [...document.querySelectorAll('[data-file]')]
  const match = links.find((link) => decodeURIComponent(link.dataset.file) === path)
  if (match) fetched.textContent = `Your browser fetched ${match.dataset.label}`
}

if (live && fetched) {
  if (live.complete) sayFetched()
  live.addEventListener('load', sayFetched)
}
