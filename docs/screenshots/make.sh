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
  [ -z "${world:-}" ] || kill "$world" 2>/dev/null || true
  rm -rf "$work" "$mill" /tmp/fernhollow-disk
}
trap finish EXIT
trap 'exit 1' INT TERM

(cd "$top" && go build -o "$work/shoot" ./test/shoot)
echo "the demo"
cozyshelf demo --keep --dir "$mill" >"$work/demo.log" 2>&1 || { cat "$work/demo.log"; exit 1; }
page=$(sed -n 's/^page  *\(http.*\)/\1/p' "$work/demo.log" | tail -n 1)
cd "$mill"

# shot NAME COMMAND [WAIT]: the command in a terminal of 158 by 44, which may take so many fifths of a second
shot() {
  echo "$1"
  rm -f "$work/done"
  xvfb-run -a -s "-screen 0 1280x800x24" sh -c '
    xterm -fa "DejaVu Sans Mono" -fs 10 -bg "#fbf7f0" -fg "#2b2119" -geometry 158x50+0+0 -b 8 +sb -e sh -c "$2; touch $3/done; sleep 200" &
    term=$!
    n=0
    while [ ! -e "$3/done" ] && [ $n -lt "$4" ]; do sleep 0.2; n=$((n + 1)); done
    sleep 0.7
    import -window root "$1"
    kill $term
  ' sh "$work/shot.png" "$2" "$work" "${3:-150}"
  convert "$work/shot.png" -strip -colors 64 "$out/$1.png"
}
say() { printf "printf '%%b' '\\\\033[1m$ cozyshelf '; printf '%%s' '%s'; printf '%%b' '\\\\033[0m\\\\n'; cozyshelf %s" "$1" "$1"; }

# The last lines of the ledger, as wide as the terminal.
tail_of_ledger() {
  printf "%s" "printf '%b' '\\033[1m$ cozyshelf ledger\\033[0m\\n'; script -qec 'cozyshelf ledger' /dev/null | tail -n $1"
}

shot check "$(say check)"
chgrp -R 44 media/series && chmod o-rwx "media/series/The Night Bakery (2019)"
shot access "$(say 'access series --mend --yes'); echo; $(say 'access series --prove'); echo; $(tail_of_ledger 7)"
chmod o+rx "media/series/The Night Bakery (2019)"
cozyshelf retire --yes >/dev/null 2>&1
shot deploy "$(say 'deploy --dry-run'); echo; $(say 'deploy --yes'); echo; $(say 'deploy --yes')"
cp "$(command -v cozyshelf)" newer && echo >>newer # another digest stands in for another program
shot upgrade "printf '\033[1m$ ./newer upgrade --yes\033[0m\n'; ./newer upgrade --yes; printf '\n\033[1m$ ./newer rollback --yes\033[0m\n'; ./newer rollback --yes"
rm newer
shot shelf-show "$(say 'shelf list'); echo; $(say 'shelf show films'); echo; $(say 'shelf show series')"
for f in "films/The Understudy Moon (1996).mp4=films/the.understudy.moon.(1996).1080p.mp4" "films/Copper Kite (2003).mkv=films/new/Copper_Kite_2003_x264.mkv"; do
  mkdir -p "media/$(dirname "${f#*=}")" && mv "media/${f%%=*}" "media/${f#*=}"
done
echo 1 >"media/films/the.understudy.moon.(1996).1080p.lv.srt"
sleep 2
n=$(($(cozyshelf ledger --steps | awk '$1 ~ /^[0-9]+$/ {n = $1} END {print n}') + 1))
shot tidy "$(say 'tidy films --yes'); echo; $(say 'tidy films'); echo; $(say "undo $n --yes"); echo; $(tail_of_ledger 3)"
cozyshelf tidy films --yes >/dev/null 2>&1
mkdir -p /tmp/fernhollow-disk
cp "media/films/the understudy moon (1996) [1080p].mp4" "/tmp/fernhollow-disk/The.Understudy.Moon.(1996).final.cut.mp4"
printf '\0\0\0\010free' >>"/tmp/fernhollow-disk/The.Understudy.Moon.(1996).final.cut.mp4"
cp media/films/A*.mkv /tmp/fernhollow-disk/ferry.mkv
head -c 60000 "media/films/The Paper Lighthouse (2014).mp4" >/tmp/fernhollow-disk/broken.mp4
shot intake "$(say 'intake copy /tmp/fernhollow-disk --onto films --yes'); echo; $(say 'shelf show films'); echo; $(say 'intake list')"
rm -r /tmp/fernhollow-disk
at=$(ip -4 -o addr show docker0 2>/dev/null | awk '{sub("/.*", "", $4); print $4}')
"$work/shoot" standin "${at:-127.0.0.1}:26977" &
world=$!
sed -i '/^\[lookup\]/,$d' household.toml
printf '\n[lookup]\nsources = ["wikidata", "musicbrainz"]\nwikidata = "http://%s/w/api.php"\ncommons = "http://%s/file/"\nmusicbrainz = "http://%s/ws/2"\ncovers = "http://%s/covers"\n' "${at:-127.0.0.1}:26977" "${at:-127.0.0.1}:26977" "${at:-127.0.0.1}:26977" "${at:-127.0.0.1}:26977" >>household.toml
mv "media/films/The Paper Lighthouse (2014).mp4" "media/films/The Paper Lighthouse.mp4"
cozyshelf deploy --yes >/dev/null 2>&1
cozyshelf shelf scan >/dev/null
for t in "A Ferry to Somewhere" "Nine Kinds of Rain" "Copper Kite" "salt and semaphore" "Tin Roof Nocturnes" "Tiny Harbour"; do cozyshelf shelf match "$t" --again >/dev/null; done
cozyshelf shelf match "The Paper Lighthouse" --again >/dev/null
shot match "$(say 'shelf match "The Paper Lighthouse"'); echo; $(say 'shelf match "The Paper Lighthouse" --take "wikidata Q900101" --edit "genres=paper, sea"') | head -n 14"
mv "media/films/The Paper Lighthouse.mp4" "media/films/The Paper Lighthouse (2014).mp4"
cozyshelf shelf scan >/dev/null
"$work/shoot" watch "$page" wren "wren by the millpond" films "The Paper Lighthouse" "" 12 &
one=$!
"$work/shoot" watch "$page" ozan "ozan by the millpond" series "The Night Bakery" Flour 12 &
two=$!
sleep 5
shot usage "$(say 'usage now'); echo; $(say 'usage chart --by heat'); echo; $(say 'usage chart --by week --split member'); echo; $(say 'usage top --since 14d')"
wait $one $two
rm -f "$out/heat.png"
cozyshelf usage chart --by heat --png "$out/heat.png" >/dev/null
shot remote "$(say 'remote proxy caddy'); echo; $(say 'remote status --connect 127.26.21.1'); echo; $(say 'remote test --connect 127.26.21.1')"
cozyshelf backup --every day --keep 7 --yes >/dev/null && cozyshelf deploy --yes >/dev/null 2>&1
shot backup "$(say 'backup --to evening.tar.zst'); echo; $(say 'backup verify evening.tar.zst'); echo; $(say 'restore evening.tar.zst --yes'); echo; $(say 'backup list'); echo; $(tail_of_ledger 8)"
sed -i 's/^memory .*/memory = "1 GiB"/; s/^scratch_limit.*/scratch_limit = "256 MiB"/' household.toml
printf '\n[convert]\nwhen = "needed"\n\n[[notice]]\nname = "browsers"\nto = "browser"\n' >>household.toml
cozyshelf deploy --yes >/dev/null 2>&1
sleep 3
shot capacity "$(say 'capacity --quick'); echo; $(say 'prepare add "paper lighthouse" --height 240 --for bram --now'); echo; $(say 'prepare add "night bakery"'); sleep 8; echo; $(say 'prepare list'); echo; $(say 'check') | grep -E 'convert|capacity|cozyshelf'" 500
"$work/shoot" watch "$page" wren "wren by the millpond" films "Nine Kinds of Rain" "" 9 &
one=$!
"$work/shoot" watch "$page" ozan "ozan by the millpond" series "Tiny Harbour" "The Buoy" 9 &
two=$!
sleep 5
shot status "$(say status)"
wait $one $two
echo "pages"
"$work/shoot" pages "$page" wren "wren by the millpond" "$out"
cozyshelf usage report --month "$(date -d '15 days ago' +%Y-%m)" --to "$work/report.html" >/dev/null
"$work/shoot" file "$work/report.html" "$out/report.png"
for p in shelves player own house report; do
  convert "$out/$p.png" -strip -colors 200 "$out/$p.png"
done
ls -l "$out"/*.png
