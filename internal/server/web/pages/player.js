// Goes on where the member stopped, and tells the server how far it is.
(() => {
  const player = document.getElementById("player");
  if (!player) return;
  const said = document.getElementById("said");
  const from = Number(player.dataset.from) || 0;
  const url = `/api/v1/files/${player.dataset.file}/position`;
  let last = -1, begun = false;

  // Languages by their own names.
  for (const track of player.querySelectorAll("track[srclang]")) {
    try {
      const name = new Intl.DisplayNames([track.srclang], { type: "language" }).of(track.srclang);
      track.label = name.charAt(0).toLocaleUpperCase(track.srclang) + name.slice(1) + track.label.slice(track.srclang.length);
    } catch {
      // it is no language that the browser knows
    }
  }

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
      else say(answer.ok ? "" : "How far you are could not be kept; it is tried again.");
    } catch {
      say("The server does not answer; how far you are is told again later.");
    }
  };

  player.addEventListener("loadedmetadata", () => { if (from > 0) player.currentTime = from; }, { once: true });
  player.addEventListener("playing", () => { begun = true; tell("playing"); });
  player.addEventListener("pause", () => tell("paused"));
  player.addEventListener("ended", () => tell("stopped"));
  player.addEventListener("error", () => {
    const why = { 2: "the connection broke off", 3: "the file is damaged, or holds something this browser does not know", 4: "this browser does not play this kind of file" };
    say(`It cannot be played: ${why[player.error && player.error.code] || "the reason is not known"}.`);
  });
  for (const b of document.querySelectorAll("[data-at]")) {
    b.addEventListener("click", () => { player.currentTime = Number(b.dataset.at); player.play(); });
  }
  setInterval(() => { if (!player.paused && Math.abs(player.currentTime - last) > 1) tell("playing"); }, 5000);
  addEventListener("pagehide", () => { if (!player.ended) tell("stopped", true); });
})();
