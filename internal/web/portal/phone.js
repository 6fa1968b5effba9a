"use strict";
// The page with which a phone approves sign-ins. Its key is made here, cannot be taken out, and signs what is sent.
const words = JSON.parse(document.getElementById("words").textContent);
const main = document.getElementById("phone");
const said = document.getElementById("said");
let offset = 0; // by how much the clock of the server is ahead of ours

const el = (tag, props = {}, ...children) => {
  const e = document.createElement(tag);
  for (const [k, v] of Object.entries(props)) k in e ? (e[k] = v) : e.setAttribute(k, v);
  e.append(...children);
  return e;
};
const fill = (text, values) => text.replace(/\{(\w+)\}/g, (_, name) => values[name] ?? "");
const say = (text, tone = "") => {
  said.textContent = text;
  said.className = tone;
};
const base64 = (buffer) => btoa(String.fromCharCode(...new Uint8Array(buffer)));

const store = () =>
  new Promise((resolve, reject) => {
    const open = indexedDB.open("tollgate", 1);
    open.onupgradeneeded = () => open.result.createObjectStore("phone");
    open.onsuccess = () => resolve(open.result);
    open.onerror = () => reject(open.error);
  });
const kept = async (mode, run) => {
  const db = await store();
  return new Promise((resolve, reject) => {
    const t = db.transaction("phone", mode);
    const request = run(t.objectStore("phone"));
    t.oncomplete = () => (db.close(), resolve(request.result));
    t.onerror = () => (db.close(), reject(t.error));
  });
};
const load = () => kept("readonly", (s) => s.get("self"));
const save = (self) => kept("readwrite", (s) => s.put(self, "self"));
const forget = () => kept("readwrite", (s) => s.delete("self"));

const sign = async (key, text) =>
  base64(await crypto.subtle.sign({ name: "ECDSA", hash: "SHA-256" }, key, new TextEncoder().encode(text)));

// post sends what is signed, once more if our clock was off.
const post = async (path, make) => {
  for (let again = 0; ; again++) {
    const body = await make(Date.now() + offset);
    const answer = await fetch(path, {
      method: "POST",
      headers: { "Content-Type": "application/json" },
      body: JSON.stringify(body),
    });
    const out = await answer.json();
    if (out.now) offset = out.now - Date.now();
    if (answer.ok) return out;
    if (out.why !== "clock" || again > 0) throw Object.assign(new Error(out.why), { why: out.why });
  }
};

const button = (text, run, props = {}) => {
  const b = el("button", { type: "button", textContent: text, ...props });
  b.onclick = async () => {
    b.disabled = true;
    await run();
    b.disabled = false;
  };
  return b;
};

const pairing = async (pass) => {
  const label = el("input", { id: "label", maxLength: 60, value: words.label });
  main.replaceChildren(
    el("p", { textContent: words.pair }),
    el("label", { htmlFor: "label", textContent: words.called }),
    label,
    button(words.use, async () => {
      try {
        const pair = await crypto.subtle.generateKey({ name: "ECDSA", namedCurve: "P-256" }, false, ["sign"]);
        const key = base64(await crypto.subtle.exportKey("spki", pair.publicKey));
        const signature = await sign(pair.privateKey, `tollgate pair\n${pass}`);
        const out = await post("/phone/pair", () => ({ pass, key, signature, label: label.value }));
        await save({ ...out, codes: undefined, key: pair.privateKey });
        history.replaceState(null, "", "/phone");
        paired(out);
      } catch (e) {
        say(words[e.why] ?? words.later, "wrong");
      }
    }),
  );
};

const paired = (out) => {
  say(fill(words.paired, out), "right");
  main.replaceChildren(
    ...(out.codes.length === 0
      ? []
      : [
          el("p", { textContent: words.recovery }),
          el("ul", { className: "codes" }, ...out.codes.map((c) => el("li", { textContent: c }))),
        ]),
    button(words.done, begin),
  );
};

// keys is about the security key with which alone sign-ins are approved here.
const able = "PublicKeyCredential" in window && !!PublicKeyCredential.parseRequestOptionsFromJSON;
const keys = (self, what, session = "", response = undefined) =>
  post("/phone/key", async (at) => ({
    device: self.device,
    at,
    do: what,
    session,
    response,
    signature: await sign(self.key, `tollgate key\n${self.device}\n${at}\n${what}\n${session}`),
  }));
const touch = async (run) => {
  try {
    return (await run()).toJSON();
  } catch {
    throw Object.assign(new Error("touched"), { why: "touched" });
  }
};
const show = async (self) => {
  const { session, options } = await keys(self, "ask");
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(options);
  return { session, response: await touch(() => navigator.credentials.get({ publicKey })) };
};
const locker = (self, state) => {
  const box = el("section", { hidden: true });
  const change = async (run, text) => {
    try {
      state.keyed = (await run()).keyed;
      say(words[text], "right");
    } catch (e) {
      say(words[e.why] ?? words.later, "wrong");
    }
    state.shown();
  };
  const on = async () => {
    const { session, options } = await keys(self, "begin");
    const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(options);
    return keys(self, "set", session, await touch(() => navigator.credentials.create({ publicKey })));
  };
  const off = async () => {
    const { session, response } = await show(self);
    return keys(self, "drop", session, response);
  };
  state.shown = () => {
    box.hidden = !able;
    box.replaceChildren(
      el("h2", { textContent: words["lock-title"] }),
      el("p", { textContent: state.keyed ? words["lock-on"] : words["lock-why"] }),
      state.keyed
        ? button(words.unlock, () => change(off, "unlocked"), { className: "plain" })
        : button(words.lock, () => change(on, "locked"), { className: "plain" }),
    );
  };
  return box;
};

// card shows one sign-in that waits.
const card = (self, state, ask, gone) => {
  const form = el("form", { className: "ask" });
  form.dataset.ask = ask.id;
  const number = el("input", { id: "n" + ask.id, inputMode: "numeric", autocomplete: "off", maxLength: 2, required: true });
  const answer = async (verdict) => {
    try {
      const digits = verdict === "approve" && ask.numbered ? Number(number.value) : 0;
      const key = verdict === "approve" && state.keyed ? await show(self) : {};
      const out = await post("/phone/answer", async (at) => ({
        device: self.device,
        at,
        ask: ask.id,
        verdict,
        number: digits,
        ...key,
        signature: await sign(self.key, `tollgate answer\n${self.device}\n${at}\n${ask.id}\n${verdict}\n${digits}`),
      }));
      say(words["came-" + out.came], out.came === "approve" ? "right" : "wrong");
      gone();
    } catch (e) {
      say(words[e.why] ?? words.later, "wrong");
      if (e.why === "over-ask") gone();
      if (e.why === "key") state.keyed = true; // since a moment ago
    }
  };
  form.onsubmit = (e) => {
    e.preventDefault();
    if (!ask.numbered || /^\d\d$/.test(number.value)) answer("approve");
    else say(words.digits, "wrong");
  };
  const time = new Date(ask.at).toLocaleTimeString();
  form.append(
    el("h2", { textContent: fill(words.where, { client: ask.client }) }),
    el("p", { textContent: fill(ask.from ? words.from : words.when, { from: ask.from, time, lane: ask.lane }) }),
    ...(ask.trial ? [el("p", { textContent: fill(words.trial, ask) })] : []),
    ...(ask.numbered
      ? [el("label", { htmlFor: number.id, textContent: words.number }), number]
      : [el("p", { className: "wrong", textContent: words.unnumbered })]),
    el("button", { textContent: words.approve }),
    button(words.refuse, () => answer("refuse"), { className: "plain" }),
    button(words.alarm, () => answer("alarm"), { className: "alarm" }),
  );
  return form;
};

// subscribe has the phone told of sign-ins while this page is closed; ask makes a new subscription where there is none.
const subscribe = async (self, ask) => {
  const { pushManager } = await navigator.serviceWorker.ready;
  const key = Uint8Array.from(atob(words.pushKey.replace(/-/g, "+").replace(/_/g, "/")), (c) => c.charCodeAt(0));
  let to = await pushManager.getSubscription();
  const made = to && new Uint8Array(to.options.applicationServerKey);
  if (made && (made.length !== key.length || made.some((b, i) => b !== key[i]))) {
    await to.unsubscribe(); // made for a key that the service had before
    to = null;
  }
  if (!to && !ask) return false;
  to ??= await pushManager.subscribe({ userVisibleOnly: true, applicationServerKey: key });
  const { p256dh, auth } = to.toJSON().keys;
  await post("/phone/push", async (at) => ({
    device: self.device,
    at,
    endpoint: to.endpoint,
    p256dh,
    auth,
    signature: await sign(self.key, `tollgate push\n${self.device}\n${at}\n${to.endpoint}`),
  }));
  return true;
};

const teller = (self) => {
  const tell = button(
    words.tell,
    async () => {
      try {
        tell.hidden = await subscribe(self, true);
        say(words.told, "right");
      } catch {
        say(words.untold, "wrong");
      }
    },
    { className: "plain", hidden: true },
  );
  if (words.pushKey && "PushManager" in window)
    subscribe(self, false)
      .then((on) => (tell.hidden = on))
      .catch(() => {});
  return tell;
};

const watch = async (self) => {
  const cards = new Map();
  const rest = el("p", { textContent: words.rest });
  const who = el("p", { className: "soft", textContent: fill(words.self, self) });
  const list = el("div");
  const state = { keyed: undefined, shown: () => {} };
  main.replaceChildren(list, rest, who, teller(self), locker(self, state));
  const gone = (id) => {
    cards.get(id)?.remove();
    cards.delete(id);
    rest.hidden = cards.size > 0;
  };
  for (;;) {
    try {
      const out = await post("/phone/asks", async (at) => ({
        device: self.device,
        at,
        known: [...cards.keys()],
        signature: await sign(self.key, `tollgate asks\n${self.device}\n${at}`),
      }));
      if (state.keyed !== out.keyed) {
        state.keyed = out.keyed;
        state.shown();
      }
      const now = new Set(out.asks.map((a) => a.id));
      for (const id of [...cards.keys()]) if (!now.has(id)) gone(id);
      for (const ask of out.asks) {
        if (cards.has(ask.id)) continue;
        const c = card(self, state, ask, () => gone(ask.id));
        cards.set(ask.id, c);
        list.append(c);
        say("");
        if (cards.size === 1) c.querySelector("input, button").focus();
        if (navigator.userActivation?.hasBeenActive) navigator.vibrate?.(200);
      }
      rest.hidden = cards.size > 0;
      await new Promise((r) => setTimeout(r, out.pause));
    } catch (e) {
      if (e.why === "unpaired") {
        await forget();
        say(words.unpaired, "wrong");
        main.replaceChildren();
        return;
      }
      say(words.offline, "wrong");
      await new Promise((r) => setTimeout(r, 3000));
      say("");
    }
  }
};

const begin = async () => {
  say("");
  if (!window.isSecureContext || !crypto.subtle) return say(words.insecure, "wrong");
  const pass = new URLSearchParams(location.hash.slice(1)).get("p");
  if (pass) return pairing(pass);
  const self = await load();
  if (!self) return say(words.stranger);
  watch(self);
};

navigator.serviceWorker?.register("/worker.js", { scope: "/" }).catch(() => {});
begin();
