// Says how long a new password would keep a guesser busy, while it is typed. It stays in the browser; the
// server judges once more, and knows which passwords are common.
(() => {
  const rows = ["abcdefghijklmnopqrstuvwxyz", "01234567890", "qwertyuiop", "qwertzuiop", "azertyuiop", "asdfghjkl",
    "zxcvbnm", "yxcvbnm"];
  const inRow = (s) => rows.some((r) => r.includes(s) || [...r].reverse().join("").includes(s));

  // In bits: the logarithm of how many are to be tried. A word counts as one of 5,000, and letters that form
  // none cannot be told from one; what was there before counts next to nothing.
  const bits = (password, name) => {
    const seen = new Set([name.toLowerCase()]);
    let sum = 0;
    for (const [piece] of password.matchAll(/\p{L}+|\p{N}+|[^\p{L}\p{N}]/gu)) {
      const s = piece.toLowerCase(), long = [...s].length;
      let b = 3.3;
      if (/^\p{L}/u.test(s)) b = Math.min(4.7 * long, 12.3 + Math.max(0, long - 12)) + (s.slice(1) === piece.slice(1) ? 0 : 2);
      else if (/^(19|20)\p{N}{2}$/u.test(s)) b = 5;
      else if (/^\p{N}/u.test(s)) b = Math.min(3.3 * long, 3.3 + 3.3 * new Set(s).size);
      if (long > 2 && (inRow(s) || new Set(s).size === 1)) b = 3;
      if (seen.has(s)) b = 1;
      seen.add(s);
      sum += b;
    }
    return sum;
  };
  const words = [[35, "Guessed soon"], [48, "Fair: one more word would make it good"], [62, "Good"], [Infinity, "Strong"]];

  for (const field of document.querySelectorAll('input[autocomplete="new-password"][minlength]')) {
    const name = field.form.querySelector('input[autocomplete="username"]')?.value ?? "";
    const line = document.createElement("span"), meter = document.createElement("meter");
    const said = document.createElement("output");
    Object.assign(meter, { min: 0, max: 80, low: 35, high: 48, optimum: 80 });
    meter.setAttribute("aria-hidden", "true");
    line.className = "strength";
    line.append(meter, said);
    field.after(line);
    const judge = () => {
      const missing = field.minLength - [...field.value].length, worth = bits(field.value, name);
      meter.value = missing > 0 ? Math.min(worth, 34) : worth;
      said.textContent = field.value === "" ? "Four words or more, that do not belong together, are good"
        : missing > 0 ? `${missing} more ${missing === 1 ? "character" : "characters"}`
        : words.find(([most]) => worth < most)[1];
    };
    field.addEventListener("input", judge);
    judge();
  }
})();
