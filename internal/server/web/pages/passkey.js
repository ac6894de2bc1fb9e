// Makes and uses passkeys. A button with data-passkey says what for, and where the server answers.
(() => {
  const buttons = [...document.querySelectorAll("button[data-passkey]")];
  if (!window.PublicKeyCredential || !navigator.credentials) {
    for (const b of document.querySelectorAll("[data-passkeys]")) b.hidden = true;
    return;
  }
  const bytes = (text) => Uint8Array.from(atob(text.replace(/-/g, "+").replace(/_/g, "/")), (c) => c.charCodeAt(0));
  const text = (buffer) => btoa(String.fromCharCode(...new Uint8Array(buffer)))
    .replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, "");

  const post = async (path, body) => {
    const answer = await fetch(path, {
      method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body),
    });
    const said = await answer.json();
    if (!answer.ok) throw new Error(said.said);
    return said;
  };

  // What the authenticator is asked, with bytes in place of text, and what it gives, the other way round.
  const asked = (o) => {
    o.challenge = bytes(o.challenge);
    if (o.user) o.user.id = bytes(o.user.id);
    for (const list of [o.excludeCredentials, o.allowCredentials]) {
      for (const c of list ?? []) c.id = bytes(c.id);
    }
    return o;
  };
  const given = (c) => {
    const r = c.response;
    const response = { clientDataJSON: text(r.clientDataJSON) };
    if (r.attestationObject) {
      response.attestationObject = text(r.attestationObject);
      response.transports = r.getTransports?.() ?? [];
    } else {
      response.authenticatorData = text(r.authenticatorData);
      response.signature = text(r.signature);
      if (r.userHandle) response.userHandle = text(r.userHandle);
    }
    return {
      id: c.id, rawId: text(c.rawId), type: c.type, response,
      clientExtensionResults: c.getClientExtensionResults(),
    };
  };

  for (const b of buttons) {
    const form = b.closest("form");
    const told = b.parentElement.querySelector(".passkey-said") ?? b.insertAdjacentElement("afterend",
      Object.assign(document.createElement("p"), { className: "passkey-said fine" }));
    told.setAttribute("role", "alert");
    const go = async () => {
      told.textContent = "";
      b.disabled = true;
      try {
        const path = b.dataset.passkey;
        const field = (name) => form?.elements.namedItem(name)?.value ?? "";
        const step = await post(path + "/ask", { password: field("now") });
        const publicKey = asked(step.options.publicKey);
        const c = publicKey.user ? await navigator.credentials.create({ publicKey })
          : await navigator.credentials.get({ publicKey });
        const end = await post(path, {
          ticket: step.ticket, answer: given(c), name: field("called"), next: b.dataset.next ?? "",
        });
        location.assign(end.next);
        if (end.next.includes("#")) location.reload();
      } catch (e) {
        told.textContent = {
          NotAllowedError: "It was not done, or took too long.",
          InvalidStateError: "This authenticator has one of your passkeys already.",
          SecurityError: "There are no passkeys at this address: it needs a name, and HTTPS.",
        }[e.name] ?? e.message;
      }
      b.disabled = false;
    };
    if (form && b.type === "submit") {
      form.addEventListener("submit", (e) => { e.preventDefault(); go(); });
    } else b.addEventListener("click", go);
  }
})();
