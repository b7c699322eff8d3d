// Finds things on a page by what a person reads. Every function gives a text once it is
// done, and nothing as long as it has to wait.
const clean = (s) => (s ?? "").replace(/\s+/g, " ").trim();
const shown = (e) => e.getClientRects().length > 0 && getComputedStyle(e).visibility !== "hidden";
const nameOf = (e) => {
  const by = e.getAttribute("aria-labelledby");
  if (by) return clean(by.split(/\s+/).map((id) => document.getElementById(id)?.innerText ?? "").join(" "));
  const label = e.getAttribute("aria-label");
  if (label) return clean(label);
  if (e.labels?.length) return clean(e.labels[0].innerText);
  return clean(e.innerText) || clean(e.getAttribute("placeholder"));
};
// What lies under a dialog is not there for who looks.
const within = () => [...document.querySelectorAll("[role=dialog], [role=menu]")].filter(shown).at(-1) ?? document.body;
const find = (selector, label) => {
  const all = [...within().querySelectorAll(selector), ...document.querySelectorAll("[data-radix-popper-content-wrapper] *")].filter((e) => e.matches(selector) && shown(e) && !e.disabled && e.getAttribute("aria-disabled") !== "true");
  return all.find((e) => nameOf(e) === label) ?? all.find((e) => nameOf(e).startsWith(label));
};
const buttons = "button, a, summary, [role=button], [role=option], [role=menuitem], [role=menuitemcheckbox], [role=combobox], input[type=checkbox], input[type=radio]";
const fields = "input:not([type=checkbox]):not([type=radio]), textarea, select, [role=combobox], [role=slider]";
// pointAt gives where a person would click: on the thing, in view, with nothing over it.
const pointAt = (e) => {
  const seen = () => {
    const box = e.getClientRects()[0];
    const x = box.left + Math.min(box.width / 2, 60);
    const y = box.top + box.height / 2;
    if (x < 0 || y < 0 || x >= innerWidth || y >= innerHeight) return "";
    const on = document.elementFromPoint(x, y);
    return on && (on === e || e.contains(on) || on.contains(e) && on.matches("label, a, button")) ? `${x} ${y}` : "";
  };
  const here = seen();
  if (here) return here;
  e.scrollIntoView({ block: "center", behavior: "instant" });
  return seen();
};
// What still moves is waited for: a person would miss it.
const steady = (at) => {
  const before = window.placeBefore;
  window.placeBefore = at;
  return at !== "" && before === at ? at : "";
};
// aim gives where to click to hit an element, and notes whether the click does.
const aim = (e) => {
  const at = steady(e ? pointAt(e) : "");
  if (at) {
    const state = () => `${e.isConnected} ${e.getAttribute("aria-expanded")} ${e.getAttribute("data-state")}`;
    const aimed = { e, state, before: state(), pressed: false, clicked: false };
    if (!window.aimed) {
      const note = (what) => (event) => {
        const { e } = window.aimed;
        const on = event.target;
        window.aimed[what] ||= e.contains(on) || on.closest?.("label, a, button")?.contains(e);
      };
      addEventListener("pointerdown", note("pressed"), true);
      addEventListener("click", note("clicked"), true);
    }
    window.aimed = aimed;
  }
  return at;
};
// Whether what was aimed at was hit. What opens when it is pressed covers itself before the click comes.
const landed = () => {
  const a = window.aimed;
  return !a || a.clicked || (a.pressed && a.state() !== a.before) ? "hit" : "missed";
};
const place = (label) => aim(find(buttons, label));
const fieldPlace = (label) => aim(find(fields, label));
// What a field is that is labelled so.
const field = (label) => {
  const e = find(fields, label);
  if (!e || !pointAt(e)) return "";
  if (e.tagName === "SELECT") return "list";
  if (e.getAttribute("role") === "combobox" && e.tagName !== "INPUT") return "combobox";
  return ["date", "datetime-local", "time", "file", "number"].includes(e.type) ? "set" : "text";
};
const set = (label, text) => {
  const e = find(fields, label);
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
const holds = (label, text) => {
  const e = find(fields, label);
  return e && e.value === text ? "done" : "";
};
const selectAll = () => {
  const e = document.activeElement;
  if (!e || !("select" in e)) return "";
  e.select();
  return "done";
};
const see = (text) => (clean(document.body.innerText).includes(clean(text)) ? "seen" : "");
const seeIn = (label, text) => {
  const all = [...document.querySelectorAll("section, dialog, nav, form, fieldset, ol, ul, dl, table, [role]")].filter((e) => shown(e) && (nameOf(e) === label || clean(e.querySelector("h1, h2, h3")?.innerText) === label));
  return all.some((e) => clean(e.innerText).includes(clean(text))) ? "seen" : "";
};
const gone = (text) => (clean(document.body.innerText).includes(clean(text)) ? "" : "gone");
const text = (id) => {
  const e = document.querySelector(`[data-testid="${id}"]`);
  return e && shown(e) ? clean(e.innerText) || " " : "";
};
const focused = () => {
  const e = document.activeElement;
  return !e || e === document.body ? "" : nameOf(e) || clean(e.innerText) || e.tagName.toLowerCase();
};
