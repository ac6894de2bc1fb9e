"use strict";

// Find as one types: on the page for it, results follow the words.
(() => {
  const box = document.querySelector(".find input");
  const list = document.querySelector("ul.found");
  if (!box || !list) return;
  const said = document.querySelector("#found-count");
  let turn = 0;
  box.addEventListener("input", async () => {
    const mine = ++turn;
    await new Promise(r => setTimeout(r, 60));
    if (mine !== turn) return;
    const words = box.value.trim();
    const res = await fetch("/api/v1/search?limit=60&q=" + encodeURIComponent(words));
    if (!res.ok || mine !== turn) return;
    const hits = await res.json();
    if (mine !== turn) return;
    history.replaceState(null, "", "/find?q=" + encodeURIComponent(words));
    said.textContent = hits.length ? `${hits.length} found for “${words}”` : words ? `Nothing has these words: “${words}”` : "Type the beginnings of words: of titles, people, episodes, tracks.";
    list.replaceChildren(...hits.map(h => {
      const li = document.createElement("li"), a = document.createElement("a"), img = document.createElement("img");
      const text = document.createElement("span"), name = document.createElement("span"), fine = document.createElement("span");
      a.className = "row"; a.href = "/title/" + h.title.id;
      img.src = "/cover/" + h.title.id; img.alt = ""; img.width = 45; img.height = 60; img.loading = "lazy";
      name.className = "name"; name.textContent = h.title.name + (h.part ? " · " + h.part : "");
      fine.className = "fine"; fine.textContent = [h.title.shelf, h.title.by, h.title.year].filter(Boolean).join(" · ");
      text.append(name, "\n", fine); a.append(img, text); li.append(a);
      return li;
    }));
  });
  box.focus();
  box.setSelectionRange(box.value.length, box.value.length);
})();

// Bring files onto a shelf: uploads that go on where they were cut off (tus 1.0.0).
(() => {
  const place = document.querySelector(".bring");
  if (!place) return;
  const shelf = place.dataset.shelf, list = place.querySelector(".coming");
  const part = 8 << 20;
  const tus = { "Tus-Resumable": "1.0.0" };
  const waiting = [];
  let busy = false;

  const bring = file => {
    const li = document.createElement("li"), name = document.createElement("span"), bar = document.createElement("progress"), state = document.createElement("span");
    name.className = "name"; name.textContent = file.name;
    bar.max = file.size || 1; bar.value = 0;
    state.className = "fine"; state.textContent = "waits";
    li.append(name, bar, state); list.append(li);
    waiting.push({ file, bar, state });
    next();
  };

  const why = async res => {
    try { const p = await res.json(); return p.problem + (p.why ? ": " + p.why : ""); } catch { return "the server says " + res.status; }
  };

  const next = async () => {
    if (busy || !waiting.length) return;
    busy = true;
    const { file, bar, state } = waiting.shift();
    const key = `bring ${shelf} ${file.name} ${file.size} ${file.lastModified}`;
    try {
      let at = localStorage.getItem(key), from = 0;
      if (at) {
        const res = await fetch(at, { method: "HEAD", headers: tus });
        if (res.ok) from = Number(res.headers.get("Upload-Offset")); else at = null;
      }
      if (!at) {
        const name = btoa(String.fromCharCode(...new TextEncoder().encode(file.name)));
        const res = await fetch("/api/v1/intake/" + shelf, { method: "POST", headers: { ...tus, "Upload-Length": file.size, "Upload-Metadata": "filename " + name } });
        if (!res.ok) throw new Error(await why(res));
        at = res.headers.get("Location");
        localStorage.setItem(key, at);
      }
      const began = performance.now(), first = from;
      for (let tries = 0; from < file.size || from === 0; ) {
        bar.value = from;
        let res;
        try {
          res = await fetch(at, { method: "PATCH", headers: { ...tus, "Upload-Offset": from, "Content-Type": "application/offset+octet-stream" }, body: file.slice(from, from + part) });
        } catch (e) {
          if (++tries > 8) throw e;
          state.textContent = "the connection was lost; it continues by itself";
          await new Promise(r => setTimeout(r, 1000 * 2 ** Math.min(tries, 5)));
          const head = await fetch(at, { method: "HEAD", headers: tus }).catch(() => null);
          if (head && head.ok) from = Number(head.headers.get("Upload-Offset"));
          continue;
        }
        if (!res.ok) throw new Error(await why(res));
        tries = 0;
        from = Number(res.headers.get("Upload-Offset"));
        bar.value = from;
        const rate = (from - first) / (performance.now() - began) * 1000;
        state.textContent = from < file.size ? `${Math.round(from / file.size * 100)} %, ${(rate / 1048576).toFixed(1)} MiB a second` : "on the shelf";
        if (file.size === 0) break;
      }
      localStorage.removeItem(key);
      state.textContent = "on the shelf";
    } catch (e) {
      localStorage.removeItem(key);
      state.textContent = e.message;
      state.classList.add("warn");
    }
    busy = false;
    next();
  };

  place.querySelector("input").addEventListener("change", e => { for (const f of e.target.files) bring(f); e.target.value = ""; });
  const over = on => e => { e.preventDefault(); place.classList.toggle("over", on); };
  document.addEventListener("dragover", over(true));
  document.addEventListener("dragleave", over(false));
  document.addEventListener("drop", e => { over(false)(e); for (const f of e.dataTransfer.files) bring(f); });
})();
