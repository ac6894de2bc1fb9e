// Keeps who is watching, and what matters today, as they are now.
(() => {
  const today = document.querySelector(".today");
  const streams = document.querySelector(".streams");
  if (!today || !streams) return;
  const element = (name, text, className = "") => {
    const e = document.createElement(name);
    e.textContent = text;
    if (className) e.className = className;
    return e;
  };
  const row = (s) => {
    const li = element("li", "", "row");
    li.dataset.stream = s.id;
    const form = element("form", "", "line");
    form.method = "post";
    form.action = `/house/streams/${s.id}`;
    const says = document.createElement("input");
    says.name = "says";
    says.maxLength = 200;
    says.placeholder = "with a word";
    says.setAttribute("aria-label", "What to say");
    form.append(says, element("button", "End it"));
    li.append(element("span", `${s.who}: ${s.title}`, "name"), element("span", s.at, "fine"), form);
    return li;
  };
  const events = new EventSource("/house/now");
  events.addEventListener("now", (e) => {
    const now = JSON.parse(e.data);
    today.replaceChildren(...now.today.map((l) => element("li", l.text, l.well ? "" : "warn")));
    // A row stays, with what is being written in it, as long as its stream does.
    const rows = new Map([...streams.children].map((li) => [li.dataset.stream, li]));
    streams.replaceChildren(...now.streams.map((s) => {
      const li = rows.get(String(s.id));
      if (!li) return row(s);
      li.querySelector(".fine").textContent = s.at;
      return li;
    }));
    document.querySelector(".nobody").hidden = now.streams.length > 0;
  });
})();
