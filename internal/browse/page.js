// Finds things on a page by what a person reads. Every function gives a text once it is
// done, and nothing as long as it has to wait.
const clean = (s) => (s ?? "").replace(/\s+/g, " ").trim();
const shown = (e) => e.getClientRects().length > 0;
const nameOf = (e) => {
  const label = e.getAttribute("aria-label");
  if (label) return clean(label);
  if (e.labels?.length) return clean(e.labels[0].innerText);
  return clean(e.innerText) || clean(e.getAttribute("placeholder"));
};
const find = (selector, label) => {
  const all = [...document.querySelectorAll(selector)].filter((e) => shown(e) && !e.disabled);
  return all.find((e) => nameOf(e) === label) ?? all.find((e) => nameOf(e).startsWith(label));
};
const click = (label) => {
  const e = find("button, a, [role=button], [role=option], input[type=checkbox], input[type=radio]", label);
  if (!e) return "";
  e.click();
  return "done";
};
const fill = (label, text) => {
  const e = find("input, textarea, select", label);
  if (!e) return "";
  if (e.tagName === "SELECT") {
    const option = [...e.options].find((o) => o.value === text || clean(o.text) === text);
    if (!option) return "";
    text = option.value;
  }
  const kind = { INPUT: HTMLInputElement, TEXTAREA: HTMLTextAreaElement, SELECT: HTMLSelectElement }[e.tagName];
  e.focus();
  Object.getOwnPropertyDescriptor(kind.prototype, "value").set.call(e, text);
  e.dispatchEvent(new Event(e.tagName === "SELECT" ? "change" : "input", { bubbles: true }));
  return "done";
};
const see = (text) => (clean(document.body.innerText).includes(clean(text)) ? "seen" : "");
const gone = (text) => (clean(document.body.innerText).includes(clean(text)) ? "" : "gone");
const text = (id) => {
  const e = document.querySelector(`[data-testid="${id}"]`);
  return e && shown(e) ? clean(e.innerText) || " " : "";
};
