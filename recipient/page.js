'use strict'
// What makes the page handier: copying, trying what was typed, looking again by itself. It works without.
const words = JSON.parse(document.getElementById('words').textContent)
const say = (key, ...args) => args.reduce((text, arg) => text.replace('%s', () => arg), words.say[key])
const counts = new Intl.PluralRules(words.language, { type: 'ordinal' })
const nth = (n) => (words.ordinals[counts.select(n)] ?? words.ordinals.other).replace('%s', n)

function named(c) {
  const code = 'U+' + c.codePointAt(0).toString(16).toUpperCase().padStart(4, '0')
  if (words.signs[c]) return words.signs[c]
  if (/[\p{C}\p{Z}]/u.test(c)) return say('unseen', code)
  if (/\d/.test(c)) return say('digit', c)
  if (c !== c.toLowerCase()) return say('capital', c)
  if (c !== c.toUpperCase()) return say('small', c)
  return say('sign', c)
}

// difference names the first difference between what is right and what was typed; empty where there is none.
function difference(right, typed) {
  if (right === typed) return ''
  const r = [...right]
  const t = [...typed]
  const trimmed = typed.trim()
  if (trimmed === right) return typed.startsWith(trimmed) ? say('blankEnd') : say('blankStart')
  let i = 0
  while (i < r.length && i < t.length && r[i] === t[i]) i++
  if (i === r.length) return say('tooMuch', nth(i + 1), named(t[i]))
  if (i === t.length) return say('tooShort', nth(i + 1), named(r[i]))
  const same = (a, b) => a.join('') === b.join('')
  if (same(t.slice(i + 1), r.slice(i))) return say('tooMuch', nth(i + 1), named(t[i]))
  if (same(t.slice(i), r.slice(i + 1))) return say('missing', nth(i + 1), named(r[i]))
  return say('differs', nth(i + 1), named(t[i]), named(r[i]))
}

for (const one of document.querySelectorAll('[hidden].tools, [hidden].try, [hidden].scripted')) one.hidden = false
// Steps are ticked off; they are still so when the page is looked at again.
const steps = [...document.querySelectorAll('.steps li')]
const place = 'steps ' + location.pathname
let did = []
try {
  did = JSON.parse(sessionStorage.getItem(place) ?? '[]')
} catch {
  // it begins again
}
const far = document.querySelector('.steps .far')
function progress() {
  if (far) far.textContent = say('far', String(did.length), String(steps.length))
}
steps.forEach((li, i) => {
  const label = document.createElement('label')
  label.append(...li.childNodes)
  const tick = document.createElement('input')
  tick.type = 'checkbox'
  tick.checked = did.includes(i)
  label.classList.toggle('did', tick.checked)
  label.prepend(tick)
  li.append(label)
  tick.addEventListener('change', () => {
    did = tick.checked ? [...did, i] : did.filter((d) => d !== i)
    label.classList.toggle('did', tick.checked)
    sessionStorage.setItem(place, JSON.stringify(did))
    progress()
  })
})
progress()
for (const box of document.querySelectorAll('.value')) {
  const right = box.dataset.value
  const said = box.querySelector('.said')
  box.querySelector('.copy').addEventListener('click', async () => {
    const status = box.querySelector('.tools [role=status]')
    try {
      await navigator.clipboard.writeText(right)
      status.textContent = say('copied')
    } catch {
      const shut = box.querySelector('details:not(.try)')
      if (shut) shut.open = true
      status.textContent = say('notCopied')
    }
  })
  box.querySelector('input').addEventListener('input', (e) => {
    const typed = e.target.value
    const wrong = difference(right, typed)
    said.textContent = typed === '' ? '' : wrong || say('right')
    said.className = 'said ' + (wrong ? 'bad' : 'good')
  })
}
document.querySelector('.print').addEventListener('click', () => window.print())

// Others than this page's own address are asked for what they see; they note it, and answer nothing.
function ask() {
  for (const url of words.ask) fetch(url, { mode: 'no-cors', cache: 'no-store', credentials: 'omit' }).catch(() => {})
}
async function look() {
  try {
    const answer = await fetch(location.pathname + '/proof?lang=' + words.language, { cache: 'no-store' })
    if (!answer.ok) return
    const text = await answer.text()
    const proof = document.getElementById('proof')
    if (proof && proof.dataset.last !== text) {
      proof.dataset.last = text
      proof.innerHTML = text
    }
  } catch {
    // While the tunnel comes up, nothing answers for a moment.
  }
}
document.querySelector('.again')?.addEventListener('click', (e) => {
  e.preventDefault()
  ask()
  setTimeout(look, 700)
})
if (document.getElementById('proof')) {
  ask()
  let times = 0
  const clock = setInterval(() => {
    if (document.hidden) return
    if (++times > 200) clearInterval(clock)
    if (times % 4 === 0) ask()
    look()
  }, 5000)
  setTimeout(look, 1200)
}

// How fast gateways answer from here: each is knocked at twice, and the second time counts, when the name is known.
async function knock(url) {
  const begun = performance.now()
  try {
    await fetch(url, { mode: 'no-cors', cache: 'no-store', credentials: 'omit', signal: AbortSignal.timeout(4000) })
  } catch {
    // A gateway is no web server; that it refuses says as much as an answer.
  }
  return performance.now() - begun
}
async function time() {
  const times = {}
  for (const door of words.doors) {
    await knock(door.url)
    const took = await knock(door.url)
    if (took < 3900) times[door.gateway] = took
  }
  await fetch(location.pathname + '/times', { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(times) })
}
if (words.doors.length) setTimeout(() => time().catch(() => {}), 2500)
