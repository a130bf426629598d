// Asking the server, and saying what it answers when something is wrong.

import { phrase } from './words.js';

/** What the program knows its pages by; read when the first request is made. */
let token = null;
const known = () => (token ??= document.querySelector('meta[name=rallo-token]').content);

/** A program that was started again knows its pages by another token; whether it did. */
async function renewed() {
  const page = await fetch('/keys')
    .then((r) => r.text())
    .catch(() => '');
  const now = /name="rallo-token" content="(\w+)"/.exec(page)?.[1];
  if (!now || now === known()) return false;
  token = now;
  return true;
}

export function say(text) {
  const box = document.getElementById('said');
  box.textContent = text;
  box.classList.add('is-on');
  clearTimeout(say.timer);
  say.timer = setTimeout(() => box.classList.remove('is-on'), 9000);
}

/** Most bytes of a request that outlives its page, by the fetch standard, with room for others. */
const OUTLIVES = 60000;

/** `last` lets the request outlive the page, where its body is small enough; `signal` gives it up. */
export async function ask(method, path, body, { last = false, signal, again = false } = {}) {
  const sent = body === undefined ? undefined : JSON.stringify(body);
  let response;
  try {
    response = await fetch(path, {
      method,
      signal,
      keepalive: last && (sent?.length ?? 0) < OUTLIVES,
      headers: { 'content-type': 'application/json', 'x-rallo-token': known() },
      body: sent,
    });
  } catch (e) {
    if (signal?.aborted) throw e;
    throw new Error(phrase('app-the-program-does-not-answer-is'));
  }
  if (response.ok) return response;
  if (response.status === 403 && !again && (await renewed()))
    return ask(method, path, body, { last, signal, again: true });
  const text = await response.text();
  let message = text;
  try {
    message = JSON.parse(text).detail;
  } catch {
    /* plain text */
  }
  const error = new Error(message);
  error.status = response.status;
  throw error;
}

export const json = async (method, path, body, how) => (await ask(method, path, body, how)).json();

/** Seconds as people say them. */
export function duration(seconds) {
  if (seconds < 90) return phrase('app-about-seconds', { seconds: Math.max(1, Math.round(seconds)) });
  if (seconds < 5400) return phrase('app-about-minutes', { minutes: Math.round(seconds / 60) });
  return phrase('app-about-hours', { hours: (seconds / 3600).toFixed(1) });
}

/** The size of a file as people say it. */
export const fileSize = (bytes) =>
  bytes < 1e6
    ? phrase('any-kb', { bytes: Math.round(bytes / 1000) })
    : phrase('any-mb', { bytes: (bytes / 1e6).toFixed(1) });

/** An element with attributes and children; text is always text. */
export function el(name, attributes = {}, ...children) {
  const e = document.createElement(name);
  for (const [key, value] of Object.entries(attributes)) {
    if (key.startsWith('on')) e.addEventListener(key.slice(2), value);
    else if (key.startsWith('aria-') && typeof value === 'boolean') e.setAttribute(key, String(value));
    else if (key === 'style')
      e.style.cssText = value; // the content policy refuses the attribute
    else if (value === true) e.setAttribute(key, '');
    else if (value !== false && value != null) e.setAttribute(key, value);
  }
  e.append(...children);
  return e;
}

/** As `el`, for drawings. */
export function svg(name, attributes = {}, ...children) {
  const e = document.createElementNS('http://www.w3.org/2000/svg', name);
  for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
  e.append(...children);
  return e;
}

export const typing = (e) =>
  /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName) && !['checkbox', 'range'].includes(e.target.type);
