"use strict";
// Security keys on the page of one's own devices. Without this script the code does.
const said = document.getElementById("said");
const say = (why) => (said.textContent = said.dataset[why] ?? said.dataset.later);
const post = async (path, body) => {
  const answer = await fetch(path, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(body),
  });
  const out = await answer.json();
  if (!answer.ok) throw Object.assign(new Error(out.why), { why: out.why });
  return out;
};
const proof = said.dataset.proof ?? ""; // of somebody who has just enrolled
const able = (id, run) => {
  const button = document.getElementById(id);
  if (!button || !window.PublicKeyCredential?.parseCreationOptionsFromJSON) return;
  button.hidden = false;
  button.closest("section")?.removeAttribute("hidden");
  button.onclick = async () => {
    button.disabled = true;
    said.textContent = "";
    try {
      await run();
      if (!proof) return location.assign("/mine");
      button.closest("section").replaceChildren(Object.assign(document.createElement("p"), { className: "right", textContent: said.dataset.added }));
    } catch (e) {
      say(e.why ?? "touched");
      button.disabled = false;
    }
  };
};
able("bykey", async () => {
  const [name, password] = ["name", "password"].map((id) => document.getElementById(id).value);
  const { session, options, proof } = await post("/mine/key/ask", { name, password });
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(options);
  const shown = await navigator.credentials.get({ publicKey });
  await post("/mine/key/enter", { session, proof, response: shown.toJSON(), label: "" });
});
able("addkey", async () => {
  const { session, options } = await post("/mine/key/begin", { proof });
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(options);
  const made = await navigator.credentials.create({ publicKey });
  const label = document.getElementById("keylabel").value;
  await post("/mine/key/add", { session, proof, response: made.toJSON(), label });
});
