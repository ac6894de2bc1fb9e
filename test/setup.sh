#!/bin/sh
# Fetches what the tests need, where it can: on Debian and its kin, as root.
# Elsewhere it says what is missing; the tests then skip what needs it.
#   setup.sh [more packages]
set -u
missing=
need() { command -v "$1" >/dev/null 2>&1 || missing="$missing $2"; }
need ffmpeg ffmpeg
need ffprobe ffmpeg
need setfacl acl
need chattr e2fsprogs
need sshfs sshfs
need sshd openssh-server
need mkfs.vfat dosfstools
need sqlite3 sqlite3
need argon2 argon2
need chromium chromium
need firefox-esr firefox-esr
need mpv mpv
need cvlc "vlc-bin vlc-plugin-base"
need gst-play-1.0 "gstreamer1.0-plugins-base-apps gstreamer1.0-plugins-good gstreamer1.0-plugins-bad gstreamer1.0-libav"
need dockerd docker.io
need podman podman
need runc runc
need newuidmap uidmap
need slirp4netns slirp4netns
need systemd-analyze systemd
need zstd zstd
need zsh zsh
need fish fish
need nginx nginx-light
need haproxy haproxy
need apache2 apache2-bin
need caddy caddy
need named bind9
need knotd knot
need turnserver coturn
need openssl openssl
need exim4 exim4-daemon-light
need rsyslogd rsyslog
need mosquitto mosquitto
need mosquitto_sub mosquitto-clients
[ -e /usr/share/bash-completion/bash_completion ] || missing="$missing bash-completion"
for p in "$@"; do
  case $p in
  nginx) need nginx nginx-light ;;
  xvfb-run) need xvfb-run "xvfb xauth" ;;
  xterm) need xterm "xterm fonts-dejavu-core"; need import imagemagick ;;
  *) need "$p" "$p" ;;
  esac
done
if [ -n "$missing" ]; then
  if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
    echo "fetching:$missing"
    # No service is to be started by being installed.
    made=
    if [ ! -e /usr/sbin/policy-rc.d ]; then
      made=1
      printf '#!/bin/sh\nexit 101\n' >/usr/sbin/policy-rc.d && chmod 755 /usr/sbin/policy-rc.d
    fi
    log=$(mktemp)
    if ! { apt-get update && DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends $missing; } >"$log" 2>&1; then
      tail -n 20 "$log"
      echo "could not be fetched:$missing; the tests that need it are skipped"
    fi
    rm -f "$log"
    [ -z "$made" ] || rm -f /usr/sbin/policy-rc.d
  else
    echo "missing:$missing; the tests that need it are skipped"
  fi
fi
# A Docker Engine that is installed but does not run is started, where one may.
# The socket of one that was killed stays behind, so it is asked, not looked for.
answers() { timeout 20 docker version >/dev/null 2>&1; }
if [ -z "${DOCKER_HOST:-}" ] && [ "$(id -u)" = 0 ] && command -v dockerd >/dev/null 2>&1 && ! answers; then
  echo "starting dockerd"
  mkdir -p /var/log
  # Nor may the number of one that has ended (or is another's by now) stand in
  # its way; dockerd takes any process with that number for a running engine.
  for p in /var/run/docker.pid /var/run/docker/containerd/containerd.pid; do
    lives=$(sed -n 's/^Name:[[:space:]]*//p; s/^State:[[:space:]]*//p' "/proc/$(cat "$p" 2>/dev/null)/status" 2>/dev/null | tr '\n' ' ')
    case $lives in
    *Z*) rm -f "$p" ;;
    dockerd* | containerd*) ;;
    *) rm -f "$p" ;;
    esac
  done
  setsid dockerd >/var/log/dockerd-for-tests.log 2>&1 </dev/null &
  n=0
  until answers || [ $n -ge 60 ]; do
    sleep 0.5
    n=$((n + 1))
  done
  answers || { echo "dockerd does not answer:"; tail -n 20 /var/log/dockerd-for-tests.log; }
fi
exit 0
