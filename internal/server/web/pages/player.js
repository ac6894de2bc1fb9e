// Goes on where the member stopped, and tells the server how far it is.
(() => {
  const player = document.getElementById("player");
  if (!player) return;
  const said = document.getElementById("said");
  const from = Number(player.dataset.from) || 0;
  const url = `/api/v1/files/${player.dataset.file}/position`;
  let last = -1, begun = false;

  // Languages by their own names.
  const named = (track) => {
    try {
      const name = new Intl.DisplayNames([track.srclang], { type: "language" }).of(track.srclang);
      track.label = name.charAt(0).toLocaleUpperCase(track.srclang) + name.slice(1) + track.label.slice(track.srclang.length);
    } catch {
      // it is no language that the browser knows
    }
  };
  for (const track of player.querySelectorAll("track[srclang]")) named(track);

  // When the member's time is about to end it is said five minutes before, and one; then a page says
  // when it goes on.
  // Of children who watch along it is said, too, for whoever sits beside them; nothing is ended.
  let warned = "";
  const may = new Set();
  const ofSofa = (sofa) => sofa.map((one) => {
    const left = one.allowed_until ? (new Date(one.allowed_until) - Date.now()) / 60000 : Infinity;
    if (!one.allowed) return may.has(one.member) ? `The time of ${one.member} is over.` : "";
    may.add(one.member);
    return left > 5 ? "" : `The time of ${one.member} ends ${left > 1 ? `in ${Math.ceil(left)} minutes` : "within a minute"}.`;
  });
  const remains = (play) => {
    if (!play.allowed) {
      player.pause();
      location.assign(location.pathname);
      return;
    }
    const left = play.allowed_until ? (new Date(play.allowed_until) - Date.now()) / 60000 : Infinity;
    const own = left > 5 ? "" : `Your time ends ${left > 1 ? `in ${Math.ceil(left)} minutes` : "within a minute"}.`;
    const text = [own, ...ofSofa(play.sofa ?? [])].filter(Boolean).join(" ");
    if (text || warned || !said.hidden) say(text);
    warned = text;
  };

  const say = (text) => { said.textContent = text; said.hidden = !text; };
  const tell = async (state, keepalive) => {
    if (!begun) return;
    last = player.currentTime;
    try {
      const answer = await fetch(url, {
        method: "PUT", keepalive,
        headers: { "Content-Type": "application/json" },
        body: JSON.stringify({ position: player.currentTime, state }),
      });
      if (answer.status === 401) location.reload();
      else if (answer.ok && state !== "stopped") remains(await answer.json());
      else say(answer.ok ? "" : "Your position was not saved; trying again.");
    } catch {
      say("The server does not answer; how far you are is told again later.");
    }
  };

  // How the film reaches this browser: the server decides by what the browser plays. As long as it
  // has not answered, and where it plays as it is, the file itself is the source.
  const how = document.getElementById("how"), sound = document.getElementById("sound");
  let stop = null, asked = 0, deciding = false;
  const failed = (e) => {
    say(`It cannot be played: ${e.message}.`);
    if (e.status === 403) tell("paused"); // whose answer tells whether the time is over
  };
  const deliver = async (wish) => {
    const turn = ++asked;
    let answer, plan;
    try {
      answer = await fetch(`/api/v1/files/${player.dataset.file}/delivery`, {
        method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ ...(await abilities()), ...wish }),
      });
      plan = await answer.json();
    } catch {
      return; // the file itself is tried
    }
    if (turn !== asked) return;
    how.hidden = false;
    if (!answer.ok) {
      how.textContent = "";
      if (answer.status === 403) return location.assign(location.pathname);
      if (answer.status === 409) say(`This browser cannot be sent it: ${plan.why}.`);
      return;
    }
    for (const t of plan.subtitles.filter((s) => s.url && !player.querySelector(`track[src="${s.url}"]`))) {
      const track = Object.assign(document.createElement("track"), { kind: "subtitles", src: t.url, srclang: t.language || "", label: t.language || "Subtitles" });
      named(track);
      player.append(track);
    }
    const copied = plan.reasons.some((r) => r.code === "prepared-copy");
    const words = copied ? "Prepared" : { "as-it-is": "", repacked: "Repacked", converted: "Converted" }[plan.as];
    how.textContent = words ? `${words}: ${plan.reasons.map((r) => r.text).join("; ")}.` : "";
    how.hidden = !words;
    if (plan.as === "as-it-is" && !stop && !copied) return;
    let begin = null, at = player.readyState > 0 ? player.currentTime : from, playing = !player.paused;
    // The file itself is not to be played: without it the player keeps in mind that it was told to
    // play while the first segments are being made.
    if (!stop) {
      player.removeAttribute("src");
      player.load();
      if (playing) player.play().catch(() => {});
    }
    say(stop ? "" : "Getting ready…");
    try {
      if (plan.as !== "as-it-is" && window.MediaSource) begin = await segments.prepare(plan.url, failed);
    } catch (e) {
      return failed(e);
    }
    if (turn !== asked) return;
    if (player.readyState > 0) at = player.currentTime;
    playing = !player.paused;
    if (stop) stop();
    stop = null;
    say("");
    player.addEventListener("loadedmetadata", () => { if (at > 0) player.currentTime = at; }, { once: true });
    if (begin) stop = begin(player);
    else player.src = plan.url;
    if (playing) player.play().catch(() => {});
  };
  const ready = player.tagName === "VIDEO" || player.tagName === "AUDIO" ? first() : Promise.resolve();
  // The browser may complain of the file itself before the server has told what to play instead.
  async function first() {
    deciding = true;
    await deliver({});
    deciding = false;
    if (player.error && said.hidden) player.dispatchEvent(new Event("error"));
  }
  const night = document.getElementById("night");
  const wished = () => deliver({ ...(sound && sound.value ? { sound: Number(sound.value) } : {}), ...(night && night.checked ? { night: true } : {}) });
  for (const choice of [sound, night]) if (choice) choice.addEventListener("change", wished);
  player.addEventListener("loadedmetadata", () => { if (from > 0 && !stop) player.currentTime = from; }, { once: true });
  player.addEventListener("playing", () => { begun = true; tell("playing"); });
  player.addEventListener("pause", () => tell("paused"));
  player.addEventListener("ended", () => { tell("stopped"); lead(); });
  // The browser gives the same error for a file that it does not know and for one that the server
  // cannot send, so the server is asked.
  const reason = async () => {
    try {
      const answer = await fetch(player.src.startsWith("blob:") ? `/api/v1/files/${player.dataset.file}/content` : player.src, { method: "HEAD" });
      if (answer.status === 401) return location.reload();
      if (answer.status === 403) {
        tell("paused"); // whose answer tells whether the time is over
        return "you may not be sent it now.";
      }
      if (answer.status === 503) return "its shelf is unplugged: the disk or the network behind it is not there. Try again later.";
      if (answer.status === 404) return "the server cannot read the file any more. The administrator can find out why.";
      if (!answer.ok) return "the server cannot send it now. Try again later.";
    } catch {
      return "the server does not answer. Try again later.";
    }
    const why = { 2: "the connection broke off.", 3: "the file is damaged, or holds something this browser does not know.", 4: "this browser does not play this kind of file." };
    return why[player.error && player.error.code] || "the reason is not known.";
  };
  player.addEventListener("error", async () => {
    if (deciding) return;
    const why = await reason();
    if (why) say(`It cannot be played: ${why}`);
  });

  // At the end the next part begins by itself, unless somebody stays.
  const lead = () => {
    const box = document.getElementById("next");
    if (!player.dataset.next || !box) return;
    let left = 10;
    const show = () => { box.firstElementChild.textContent = `Next, in ${left} s: ${player.dataset.nextName}`; };
    show();
    box.hidden = false;
    const tick = setInterval(() => {
      left--;
      if (left > 0) return show();
      clearInterval(tick);
      location.href = player.dataset.next;
    }, 1000);
    const stay = () => { clearInterval(tick); box.hidden = true; };
    box.querySelector("button").addEventListener("click", stay, { once: true });
    player.addEventListener("playing", stay, { once: true });
  };
  for (const b of document.querySelectorAll("[data-at]")) {
    b.addEventListener("click", () => { player.currentTime = Number(b.dataset.at); player.play(); });
  }
  // Whoever pressed Watch has asked for it already; a browser that wants another press gets one.
  if (new URLSearchParams(location.search).has("play")) ready.then(() => player.play()).catch(() => {});
  setInterval(() => { if (!player.paused && Math.abs(player.currentTime - last) > 1) tell("playing"); }, 5000);
  addEventListener("pagehide", () => { if (!player.ended) tell("stopped", true); });
})();
