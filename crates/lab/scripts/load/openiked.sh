furnish() { :; }

load() {
  tell iked iked -n -f /etc/iked.conf
}
