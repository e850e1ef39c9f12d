// The search of MkDocs wants this global; an inline script would need an exception in the content security policy.
window.base_url = document.documentElement.dataset.base

document.addEventListener('DOMContentLoaded', () => {
  const contents = document.querySelector('details.contents')
  if (matchMedia('(max-width: 860px)').matches) contents.open = false
  const results = document.getElementById('mkdocs-search-results')
  const query = document.getElementById('mkdocs-search-query')
  // The form leads to the page of results; on that page the search runs while typing.
  if (results) query.form.addEventListener('submit', (event) => event.preventDefault())
})
