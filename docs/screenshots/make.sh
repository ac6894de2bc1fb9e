#!/bin/sh
# Makes the pictures anew, from the made-up household, on Docker if it answers.
# Needs: xvfb xauth xterm imagemagick fonts-dejavu-core chromium.
set -eu
top=$(cd "$(dirname "$0")/../.." && pwd)
out=$top/docs/screenshots
PATH=$top/bin:$PATH
export PATH
work=$(mktemp -d)
mill=/tmp/fernhollow-mill # it is seen in the pictures, so it has no odd name
[ ! -e "$mill" ] || { echo "$mill is in the way"; exit 1; }
chmod 755 "$work"
finish() {
  [ ! -f "$mill/household.toml" ] || cozyshelf --household "$mill/household.toml" retire --erase --yes >/dev/null 2>&1 || true
  rm -rf "$work" "$mill"
}
trap finish EXIT
trap 'exit 1' INT TERM

(cd "$top" && go build -o "$work/shoot" ./test/shoot)
echo "the demo"
cozyshelf demo --keep --dir "$mill" >"$work/demo.log" 2>&1 || { cat "$work/demo.log"; exit 1; }
page=$(sed -n 's/^page  *\(http.*\)/\1/p' "$work/demo.log" | tail -n 1)
cd "$mill"

# shot NAME COMMAND: the command in a terminal of 158 by 44
shot() {
  echo "$1"
  rm -f "$work/done"
  xvfb-run -a -s "-screen 0 1280x800x24" sh -c '
    xterm -fa "DejaVu Sans Mono" -fs 10 -bg "#fbf7f0" -fg "#2b2119" -geometry 158x50+0+0 -b 8 +sb -e sh -c "$2; touch $3/done; sleep 30" &
    term=$!
    n=0
    while [ ! -e "$3/done" ] && [ $n -lt 150 ]; do sleep 0.2; n=$((n + 1)); done
    sleep 0.7
    import -window root "$1"
    kill $term
  ' sh "$work/shot.png" "$2" "$work"
  convert "$work/shot.png" -strip -colors 64 "$out/$1.png"
}
say() { printf 'printf "\\033[1m$ cozyshelf %s\\033[0m\\n"; cozyshelf %s' "$1" "$1"; }

shot check "$(say check)"
chgrp -R 44 media/series && chmod o-rwx "media/series/The Night Bakery (2019)"
shot access "$(say 'access series')"
shot mend "$(say 'access series --mend --yes'); echo; $(say 'access series --prove'); echo; $(say 'ledger') | tail -n 7"
chmod o+rx "media/series/The Night Bakery (2019)"
cozyshelf retire --yes >/dev/null 2>&1
shot deploy "$(say 'deploy --dry-run'); echo; $(say 'deploy --yes'); echo; $(say 'deploy --yes'); echo; $(say status)"
shot shelf-show "$(say 'shelf list'); echo; $(say 'shelf show films'); echo; $(say 'shelf show series')"
"$work/shoot" watch "$page" wren "wren by the millpond" films "The Paper Lighthouse" "" 12 &
one=$!
"$work/shoot" watch "$page" ozan "ozan by the millpond" series "The Night Bakery" Flour 12 &
two=$!
sleep 5
shot usage "$(say 'usage now'); echo; $(say 'usage history'); echo; $(say 'usage top'); echo; $(say 'member list')"
wait $one $two
echo "pages"
"$work/shoot" pages "$page" wren "wren by the millpond" "$out"
for p in sign-in shelves title player shelves-dark; do
  convert "$out/$p.png" -strip -colors 200 "$out/$p.png"
done
ls -l "$out"/*.png
