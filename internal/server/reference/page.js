// What the page does beyond being read: finding, the place where one is, requests sent from here.
const root = document.documentElement;
root.classList.add('js');

const role = document.getElementById('role');
role.addEventListener('change', () => role.form.submit());

// Tabs stand side by side over the request that is open.
for (const tabs of document.querySelectorAll('.tabs')) {
  let left = 0;
  for (const summary of tabs.querySelectorAll('summary')) {
    summary.style.left = `${left}px`;
    left += summary.offsetWidth + 14;
    summary.addEventListener('click', (event) => {
      event.preventDefault();
      for (const other of tabs.querySelectorAll('details')) other.open = other === summary.parentElement;
    });
  }
}

for (const tabs of document.querySelectorAll('.tabs')) {
  const copy = document.createElement('button');
  copy.textContent = 'Copy';
  copy.addEventListener('click', async () => {
    await navigator.clipboard.writeText(tabs.querySelector('details[open] pre').textContent);
    copy.textContent = 'Copied';
    setTimeout(() => (copy.textContent = 'Copy'), 1500);
  });
  tabs.append(copy);
}

const articles = [...document.querySelectorAll('article')];
const links = new Map([...document.querySelectorAll('.side .list section[data-tag] > a')].map((a) => [a.hash.slice(1), a]));
const index = articles.length === 0 ? [...document.querySelectorAll('.side .list a')] : [];

const find = document.getElementById('find');
find.addEventListener('input', () => {
  const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
  let found = 0;
  for (const article of articles) {
    const fits = words.every((word) => article.dataset.words.includes(word));
    article.hidden = !fits;
    links.get(article.id).hidden = !fits;
    if (fits) found++;
  }
  for (const link of index) {
    link.hidden = !words.every((word) => link.textContent.toLowerCase().includes(word));
    if (!link.hidden) found++;
  }
  for (const section of document.querySelectorAll('.side .list section[data-tag]')) {
    const any = [...section.querySelectorAll(':scope > a')].some((a) => !a.hidden);
    section.hidden = !any;
    document.getElementById(`tag-${section.dataset.tag}`).hidden = !any;
  }
  document.getElementById('nothing').hidden = found > 0;
  scrollTo(0, 0);
});
document.addEventListener('keydown', (event) => {
  if (event.key === '/' && !event.target.matches('input, select, textarea')) {
    event.preventDefault();
    find.focus();
  }
});

const here = new IntersectionObserver(
  (entries) => {
    for (const { isIntersecting, target } of entries)
      if (isIntersecting) {
        for (const link of links.values()) link.classList.remove('here');
        links.get(target.id).classList.add('here');
        links.get(target.id).scrollIntoView({ block: 'nearest' });
      }
  },
  { rootMargin: '-60px 0px -70% 0px' },
);
for (const article of articles) here.observe(article);

for (const form of document.querySelectorAll('form.ask')) {
  form.addEventListener('submit', async (event) => {
    event.preventDefault();
    const output = form.nextElementSibling;
    const token = form.elements.token.value.trim();
    for (const other of document.querySelectorAll('form.ask')) other.elements.token.value = token;
    output.textContent = 'asking …';
    try {
      const answer = await fetch(form.dataset.path, { headers: token ? { Authorization: `Bearer ${token}` } : {} });
      const text = await answer.text();
      let shown = text;
      try {
        shown = JSON.stringify(JSON.parse(text), null, 2);
      } catch {
        // no JSON: as it is
      }
      const status = document.createElement('b');
      status.textContent = `${answer.status} ${answer.statusText}`;
      const pre = document.createElement('pre');
      pre.textContent = shown;
      output.replaceChildren(status, pre);
    } catch (error) {
      output.textContent = `No answer: ${error.message}`;
    }
  });
}
