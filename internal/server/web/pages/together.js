// Watching together apart: what one does, all do, and who is behind catches up.
(() => {
  const player = document.getElementById("player"), box = document.getElementById("together");
  if (!player || !box) return;
  const told = box.querySelector("[role=status]"), link = box.querySelector("input"), begin = box.querySelector("button");
  const room = player.dataset.together;
  box.hidden = false;

  begin.addEventListener("click", async () => {
    begin.disabled = true;
    try {
      const answer = await fetch(`/api/v1/files/${player.dataset.file}/together`, { method: "POST" });
      const made = await answer.json();
      if (!answer.ok) throw new Error(`${made.problem}: ${made.why}`);
      location.assign(`${location.pathname}?together=${made.id}&from=${Math.floor(player.currentTime)}`);
    } catch (e) {
      told.textContent = e.message;
      begin.disabled = false;
    }
  });
  if (!room) return;
  begin.hidden = true;
  link.hidden = false;
  link.value = `${location.origin}/together/${room}`;
  link.addEventListener("focus", () => link.select());

  // Where the others are, as it was told last, and where this page jumped by itself.
  // was is whether it was paused when that was last looked at: where it differs, a person has just done
  // something, whose event is still to come.
  let theirs = null, jumped = null, first = true, was = player.paused, telling = 0;
  // The number of the change that was heard last, and what came in while this page was telling something.
  let latest = -1, missed = null;
  const now = () => performance.now() / 1000;
  const target = () => theirs.position + (theirs.playing ? now() - theirs.at : 0);
  const follow = async () => {
    if (!theirs || player.seeking || player.paused !== was) return;
    const off = target() - player.currentTime;
    if (theirs.playing && player.paused && !player.ended) {
      was = false;
      try {
        await player.play();
      } catch {
        was = player.paused;
        told.textContent = "Press play to join.";
        return;
      }
    } else if (!theirs.playing && !player.paused) {
      was = true;
      player.pause();
    }
    if (Math.abs(off) > (theirs.playing ? 3 : 0.1) || first && Math.abs(off) > 0.2) {
      player.playbackRate = 1;
      player.currentTime = jumped = target();
    } else if (theirs.playing) {
      player.playbackRate = Math.abs(off) < 0.06 ? 1 : 1 + Math.max(-0.1, Math.min(0.1, off / 4));
    } else player.playbackRate = 1;
    first = false;
  };
  const hear = (state, at) => {
    if (state.change < latest) return;
    latest = state.change;
    theirs = { playing: state.playing, position: state.position, at };
    told.textContent = state.members.length > 1 ? `Together: ${state.members.join(", ")}` : "Nobody else is here yet. Send them the link:";
    follow();
  };
  // While this page tells what was done here, what it hears may be from before that, or from after.
  const tell = async () => {
    theirs = { playing: !player.paused, position: player.currentTime, at: now() };
    telling++;
    let state = null;
    try {
      const answer = await fetch(`/api/v1/together/${room}`, {
        method: "PUT", headers: { "Content-Type": "application/json" },
        body: JSON.stringify({ playing: !player.paused, position: player.currentTime }),
      });
      if (answer.ok) state = await answer.json();
    } catch { /* the next event tells where all are */ }
    const answered = now();
    if (--telling > 0) return;
    if (state) hear(state, answered);
    if (missed) hear(missed.state, missed.at);
    missed = null;
  };
  // What the others do already needs no telling: this page only follows.
  for (const event of ["play", "pause"]) player.addEventListener(event, () => {
    if (player.paused === was) return; // this page did it by itself
    was = player.paused;
    if (theirs && !player.ended && player.paused === theirs.playing) tell();
  });
  player.addEventListener("seeked", () => {
    const own = jumped !== null && Math.abs(player.currentTime - jumped) < 0.25;
    jumped = null;
    if (theirs && !own) tell();
  });

  const events = new EventSource(`/api/v1/together/${room}/events`);
  events.addEventListener("state", (e) => {
    const state = JSON.parse(e.data);
    if (telling > 0) missed = { state, at: now() };
    else hear(state, now());
  });
  events.addEventListener("over", (e) => {
    const why = JSON.parse(e.data);
    events.close();
    theirs = null;
    player.pause();
    told.textContent = `${why.problem[0].toUpperCase()}${why.problem.slice(1)}: ${why.why}.`;
  });
  events.addEventListener("error", () => {
    if (events.readyState === EventSource.CLOSED) told.textContent = "Nothing is watched together here any more.";
  });
  setInterval(follow, 1000);
})();
