furnish() { :; }

load() {
  charon-systemd >$state/daemon 2>&1 </dev/null &
  wait_for /run/charon.vici
  tell swanctl swanctl --load-all --noprompt
}
