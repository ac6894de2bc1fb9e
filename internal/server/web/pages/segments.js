// Plays what arrives in segments, over Media Source Extensions: reads the playlists, keeps some
// seconds of picture and sound ahead, and lets go of what was seen.
const segments = (() => {
  const ahead = 30, behind = 60;

  const text = async (url) => {
    const answer = await fetch(url);
    if (!answer.ok) throw Object.assign(new Error("the playlist cannot be had"), { status: answer.status });
    return (await answer.text()).split("\n").map((line) => line.trim()).filter(Boolean);
  };

  // Attributes of a playlist's tag, by name.
  const attributes = (line) => {
    const out = {};
    for (const [, name, quoted, plain] of line.matchAll(/([A-Z0-9-]+)=(?:"([^"]*)"|([^,]*))/g)) out[name] = quoted ?? plain;
    return out;
  };

  // What is to be played of a multivariant playlist: a picture with the sound that is proposed.
  const choose = async (url) => {
    const lines = await text(url);
    const sounds = lines.filter((l) => l.startsWith("#EXT-X-MEDIA:TYPE=AUDIO")).map(attributes);
    const at = lines.findIndex((l) => l.startsWith("#EXT-X-STREAM-INF:"));
    const variant = attributes(lines[at]);
    const codecs = variant.CODECS.split(",");
    const start = lines.filter((l) => l.startsWith("#EXT-X-SESSION-DATA")).map(attributes).find((a) => a["DATA-ID"] === "arpa.home.start");
    const out = [{ url: new URL(lines[at + 1], url), kind: "video", codec: codecs[0] }];
    const sound = sounds.find((s) => s.DEFAULT === "YES") || sounds[0];
    if (!variant.RESOLUTION) out[0].kind = "audio";
    else if (sound) out.push({ url: new URL(sound.URI, url), kind: "audio", codec: codecs[1] });
    return out.map((part) => ({ ...part, start: start ? parseFloat(start.VALUE) : 0 }));
  };

  // A playlist of segments: where each is, and when it begins.
  const listed = async (part) => {
    const out = { ...part, pieces: [], init: null };
    let at = part.start, length = 0;
    for (const line of await text(part.url)) {
      if (line.startsWith("#EXT-X-MAP:")) out.init = new URL(attributes(line).URI, part.url);
      else if (line.startsWith("#EXTINF:")) length = parseFloat(line.slice(8));
      else if (!line.startsWith("#")) {
        out.pieces.push({ url: new URL(line, part.url), from: at, to: at + length });
        at += length;
      }
    }
    return out;
  };

  const bytes = async (url, signal) => {
    for (let tries = 0; ; tries++) {
      try {
        const answer = await fetch(url, { signal });
        if (answer.ok) return await answer.arrayBuffer();
        let said = {};
        try { said = await answer.json(); } catch { /* it is in no words */ }
        throw Object.assign(new Error(said.why || said.problem || "the server cannot send it"), { status: answer.status });
      } catch (e) {
        if (signal.aborted || tries >= 4 || (e.status >= 400 && e.status < 500)) throw e;
        await new Promise((done) => setTimeout(done, 500 << tries));
      }
    }
  };

  // Lets a source buffer do one thing, and waits for it.
  const settle = (buffer, act) => new Promise((done, failed) => {
    const end = (then) => (e) => {
      buffer.removeEventListener("updateend", ok);
      buffer.removeEventListener("error", bad);
      then(e);
    };
    const ok = end(done), bad = end(() => failed(new Error("the browser cannot read what arrived")));
    buffer.addEventListener("updateend", ok);
    buffer.addEventListener("error", bad);
    try { act(); } catch (e) { end(failed)(e); }
  });

  const holds = (buffer, time) => {
    for (let i = 0; i < buffer.buffered.length; i++) {
      if (buffer.buffered.start(i) <= time + 0.15 && buffer.buffered.end(i) > time + 0.05) return buffer.buffered.end(i);
    }
    return -1;
  };

  // feed keeps one buffer filled until it is stopped.
  const feed = async (player, part, buffer, stopped) => {
    let fetching = null, next = -1;
    const wake = () => { next = -1; if (fetching) fetching.abort(); };
    player.addEventListener("seeking", wake);
    stopped.addEventListener("abort", wake);
    await settle(buffer, () => buffer.appendBuffer(part.first));
    part.done = false;
    while (!stopped.aborted) {
      const now = player.currentTime, end = holds(buffer, now);
      if (next < 0) {
        const want = end > 0 ? end + 0.05 : now;
        next = part.pieces.findIndex((p) => p.to > want);
        if (next < 0) next = part.pieces.length;
      }
      if (next >= part.pieces.length || part.pieces[next].from > now + ahead) {
        part.done = next >= part.pieces.length;
        await new Promise((done) => setTimeout(done, 250));
        continue;
      }
      part.done = false;
      fetching = new AbortController();
      try {
        const b = await bytes(part.pieces[next].url, fetching.signal);
        if (fetching.signal.aborted) continue;
        if (now > behind && buffer.buffered.length && buffer.buffered.start(0) < now - behind) {
          await settle(buffer, () => buffer.remove(0, now - behind));
        }
        await settle(buffer, () => buffer.appendBuffer(b));
        if (next >= 0) next++;
      } catch (e) {
        if (e.name === "QuotaExceededError") {
          await settle(buffer, () => buffer.remove(0, Math.max(0.1, player.currentTime - 5)));
          await new Promise((done) => setTimeout(done, 1000));
        } else if (!stopped.aborted && !(fetching.signal.aborted && e.name === "AbortError")) {
          throw e;
        }
      }
    }
    player.removeEventListener("seeking", wake);
  };

  // prepare reads a playlist, and gives a function that plays it on an element. That one gives a
  // function that ends it. failed hears what went wrong meanwhile.
  const prepare = async (url, failed) => {
    const stop = new AbortController();
    const parts = await Promise.all((await choose(new URL(url, location))).map(listed));
    for (const part of parts) part.first = await bytes(part.init, stop.signal);
    return (player) => {
      const source = new MediaSource();
      let tick = 0;
      source.addEventListener("sourceopen", () => {
        try {
          if (parts[0].start > 0.1 && player.currentTime < parts[0].start) {
            player.addEventListener("loadedmetadata", () => { if (player.currentTime < parts[0].start) player.currentTime = parts[0].start; }, { once: true });
          }
          source.duration = Math.max(...parts.map((p) => p.pieces.at(-1).to));
          const buffers = parts.map((p) => source.addSourceBuffer(`${p.kind}/mp4; codecs="${p.codec}"`));
          parts.forEach((p, i) => feed(player, p, buffers[i], stop.signal).catch((e) => { if (!stop.signal.aborted) failed(e); }));
          tick = setInterval(() => {
            if (source.readyState === "open" && parts.every((p) => p.done) && buffers.every((b) => !b.updating)) source.endOfStream();
          }, 500);
        } catch (e) {
          failed(e);
        }
      }, { once: true });
      player.src = URL.createObjectURL(source);
      return () => { clearInterval(tick); stop.abort(); };
    };
  };

  return { prepare };
})();
