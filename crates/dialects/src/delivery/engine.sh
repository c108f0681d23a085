say() { printf '%s\n' "$*"; }
complain() { printf '%s: %s\n' "$site" "$*" >&2; }
# What goes on, for whoever looks later; no secret gets here.
note() { printf '%s %s\n' "$(date '+%Y-%m-%dT%H:%M:%S')" "$*" >>"$state/log"; }

has() { command -v "$1" >/dev/null 2>&1; }
booted() { [ -d /run/systemd/system ]; }

# Lets a service run now and after each boot.
runs() {
	booted || return 0
	systemctl enable "$1" >/dev/null 2>&1
	systemctl is-active --quiet "$1" || systemctl start "$1"
}

# Runs a command. What it says is shown when it fails, and what it complains of when it does not.
try() {
	if ! "$@" >"$work/said" 2>"$work/complaints"; then
		complain "$* failed:"
		cat "$work/said" "$work/complaints" | sed 's/^/    /' >&2
		return 1
	fi
	# Names stand in quotes, and can be any word.
	awk '{ bare = tolower($0); gsub(/"[^"]*"|\047[^\047]*\047/, "", bare) }
		bare ~ /warn|error|fail|unknown|ignor|obsolete|deprecated|invalid|refus|cannot|unable/' "$work/said" >>"$work/complaints"
	[ -s "$work/complaints" ] || return 0
	complain "$* says:"
	sed 's/^/    /' "$work/complaints" >&2
}

# Puts a file into its place, in one step.
place() {
	folder=$(dirname "$2")
	if [ ! -d "$folder" ]; then
		mkdir -p "$folder" || return 1
		case ${folder##*/} in private) chmod 700 "$folder" ;; *) chmod 755 "$folder" ;; esac
	fi
	new=$folder/.uspan-new.$$
	cp "$1" "$new" && chown 0:0 "$new" && chmod "$3" "$new" && mv -f "$new" "$2" && return 0
	rm -f "$new"
	return 1
}

# Lines "SUM MODE PATH" of files below a folder, for a list of "MODE PATH" on the standard input.
facts() {
	sed 's/^[0-9]* //' | while read -r path; do
		[ ! -f "$1/$path" ] || printf '%s\0' "$path"
	done >"$work/paths"
	[ -s "$work/paths" ] || return 0
	(cd "$1/" && xargs -0 sha256sum <"$work/paths") | sed 's/^\([0-9a-f]*\)  /\1 /' >"$work/of-bytes"
	(cd "$1/" && xargs -0 stat -c '%a' <"$work/paths") >"$work/of-modes"
	paste -d ' ' "$work/of-modes" "$work/of-bytes" | sed 's/^\([0-9]*\) \([0-9a-f]*\) /\2 \1 /' | sort
}

# Takes a copy of what stands beside this program, with the modes of the list, whatever became of them on the way.
stage() {
	rm -rf "$state/next" "$state/lines"
	mkdir "$state/next" "$state/lines" || return 1
	if [ -d "$here/etc" ]; then cp -R "$here/etc" "$state/next/" || return 1; fi
	# What did not change may have been left out: it stands there from before.
	if [ -e "$state/now/list" ]; then
		while read -r mode path; do
			if [ ! -e "$state/next/$path" ] && [ -f "/$path" ] && grep -qFx "$mode $path" "$state/now/list"; then
				mkdir -p "$state/next/$(dirname "$path")" && cp -p "/$path" "$state/next/$path" || return 1
			fi
		done <"$work/list"
	fi
	for mode in 600 644 755; do
		sed -n "s/^$mode //p" "$work/list" | tr '\n' '\0' >"$work/paths"
		[ ! -s "$work/paths" ] || (cd "$state/next" && xargs -0 chmod "$mode" <"$work/paths") || return 1
	done
	joined >"$work/joined"
	while read -r path; do
		mkdir -p "$state/lines/$(dirname "$path")" && cp -p "$state/next/$path" "$state/lines/$path" || return 1
		join_lines "$path" || return 1
	done <"$work/joined"
	# From what is no longer among ours our lines go.
	[ -d "$state/now/lines" ] || return 0
	(cd "$state/now/lines" && find . -type f) | sed 's|^\./||' | sort >"$work/known"
	grep -vFx -f "$work/joined" "$work/known" | while read -r path; do
		[ -f "/$path" ] || continue
		mkdir -p "$state/next/$(dirname "$path")" && cp -p "/$path" "$state/next/$path" || exit 1
		say "$(stat -c %a "/$path") $path" >>"$work/list"
		join_lines "$path" || exit 1
	done || return 1
	sort -k 2 "$work/list" -o "$work/list"
}

# A file that others have lines in: theirs stay as they are, ours come behind them.
join_lines() {
	[ -f "/$1" ] || return 0
	if [ -f "$state/now/lines/$1" ]; then
		grep -vFx -f "$state/now/lines/$1" "/$1" >"$work/joint"
	else
		cat "/$1" >"$work/joint"
	fi
	[ ! -f "$state/lines/$1" ] || cat "$state/lines/$1" >>"$work/joint"
	cat "$work/joint" >"$state/next/$1"
}

# Lines "new MODE PATH", "changed MODE PATH", "same MODE PATH" and "removed 0 PATH": what is to stand there, against what does.
compare() {
	facts "$state/next" <"$work/list" >"$work/wanted"
	facts "" <"$work/list" >"$work/present"
	comm -12 "$work/wanted" "$work/present" | sed 's/^[0-9a-f]* /same /'
	comm -23 "$work/wanted" "$work/present" | while read -r _ mode path; do
		if [ -e "/$path" ] || [ -L "/$path" ]; then say "changed $mode $path"; else say "new $mode $path"; fi
	done
	[ -e "$state/now/list" ] || return 0
	sed 's/^[0-9]* //' "$work/list" | sort >"$work/wanted"
	sed 's/^[0-9]* //' "$state/now/list" | sort >"$work/known"
	comm -13 "$work/wanted" "$work/known" | while read -r path; do
		[ ! -e "/$path" ] || say "removed 0 $path"
	done
}

# The paths of files like a pattern, of what is to stand there.
listed() {
	while read -r _ path; do
		# shellcheck disable=SC2254
		case $path in $1) say "$path" ;; esac
	done <"$work/list"
}

# Runs the steps of a list, or tells them, each for what changes of it.
steps() {
	for step in $1; do
		while read -r kind mode path; do
			if "concerns_$step" "$kind $path"; then say "$kind $path"; fi
		done <"$changes" >"$work/concerned"
		[ -s "$work/concerned" ] || continue
		"does_$step"
		if [ "$mode_of_run" = tell ]; then
			sed 's/^\([a-z]*\) /    \1 \//' "$work/concerned"
			continue
		fi
		note "$step"
		if ! "step_$step" <"$work/concerned"; then
			[ "$mode_of_run" = back ] || return 1
			complain "step $step failed; going on"
		fi
	done
}

# Brings the gateway to what the folder $1 holds: what leaves, the files, what comes.
bring() {
	rm -rf "$work/was"
	mkdir -p "$work/was"
	target=$1
	# shellcheck disable=SC2154
	steps "$leaving" || return 1
	# shellcheck disable=SC2154
	[ "$mode_of_run" = tell ] && { steps "$coming"; return; }
	while read -r kind mode path; do
		if [ "$kind" != same ] && [ -e "/$path" ]; then
			mkdir -p "$work/was/$(dirname "$path")" && cp -p "/$path" "$work/was/$path" || return 1
		fi
		case $kind in
		same) ;;
		removed) rm -f "/$path" || return 1 ;;
		*) place "$target/$path" "/$path" "$mode" || return 1 ;;
		esac
	done <"$changes"
	steps "$coming"
}

# Keeps what is there now of everything that changes, and how it comes back.
keep() {
	rm -rf "$state/before.new"
	mkdir -p "$state/before.new/files" || return 1
	grep -v '^same ' "$changes" | while read -r kind mode path; do
		if [ "$kind" = new ]; then
			say "removed 0 $path"
			continue
		fi
		mkdir -p "$state/before.new/files/$(dirname "$path")" && cp -p "/$path" "$state/before.new/files/$path" || exit 1
		mode=$(stat -c %a "/$path") || exit 1
		case $kind in
		changed) say "changed $mode $path" ;;
		removed) say "new $mode $path" ;;
		esac
	done >"$state/before.new/changes" || return 1
	if [ -d "$state/now" ]; then cp -Rp "$state/now" "$state/before.new/now" || return 1; fi
	rm -rf "$state/before"
	mv "$state/before.new" "$state/before"
}

# Remembers what stands there now as ours.
remember() {
	rm -rf "$state/now.new"
	mkdir -p "$state/now.new"
	cp "$1" "$state/now.new/list" || return 1
	facts "" <"$1" >"$state/now.new/facts" || return 1
	[ ! -d "$state/lines" ] || mv "$state/lines" "$state/now.new/lines" || return 1
	rm -rf "$state/now"
	mv "$state/now.new" "$state/now"
}

# Goes back to what was there before the last take-up.
back() {
	[ -d "$state/before" ] || { complain "there is nothing to go back to"; return 1; }
	note "going back"
	mode_of_run=back
	changes=$state/before/changes
	# Whoever died over it may have left a file half in its place.
	while read -r kind mode path; do
		folder=/$(dirname "$path")
		for left in "$folder"/.uspan-new.*; do [ ! -e "$left" ] || rm -f "$left"; done
	done <"$changes"
	bring "$state/before/files"
	rm -rf "$state/now"
	if [ -d "$state/before/now" ]; then cp -Rp "$state/before/now" "$state/now"; fi
	rm -rf "$state/before"
	rm -f "$state/pending"
	note "back"
}

# Stands by while something changes: goes back when the program that changes it dies, or when nobody confirms in time.
guard() {
	exec 9>"$state/lock"
	flock 9
	while [ -e "$state/pending" ]; do
		read -r what until <"$state/pending" || break
		if [ "$what" = working ] || [ "$(date +%s)" -ge "$until" ]; then
			back
			break
		fi
		flock -u 9
		sleep 1
		flock 9
	done
	rm -rf "$work"
}

# Whether files of ours are as they were put there, and no other stands where ours are to stand.
untouched() {
	fine=0
	: >"$work/ours"
	if [ -e "$state/now/facts" ]; then
		sed 's/^[0-9]* //' "$state/now/list" | sort >"$work/ours"
		facts "" <"$state/now/list" >"$work/present"
		comm -23 "$state/now/facts" "$work/present" | while read -r _ _ path; do say "$path"; done | grep -vFx -f "$work/joined" >"$work/touched"
		while read -r path; do
			complain "/$path was changed by hand since it was put there"
			fine=1
		done <"$work/touched"
	fi
	sed -n 's/^changed [0-9]* //p' "$changes" | sort | comm -23 - "$work/ours" | grep -vFx -f "$work/joined" >"$work/others"
	while read -r path; do
		complain "/$path stands there already, and was not put there by this program"
		fine=1
	done <"$work/others"
	return $fine
}

# Whether this is the gateway that the files are for, and has what they need.
right_place() {
	addresses | sort >"$work/wanted"
	if [ -s "$work/wanted" ]; then
		ip -o address show | sed -n 's|.* inet6\{0,1\} \([^ /]*\).*|\1|p' | sort >"$work/known"
		if [ -z "$(comm -12 "$work/wanted" "$work/known")" ]; then
			complain "this is another machine: no interface here has the address $(tr '\n' ' ' <"$work/wanted")"
			return 1
		fi
	fi
	interfaces | while read -r name; do
		ip link show "$name" >/dev/null 2>&1 || { complain "there is no interface $name here"; exit 1; }
	done || return 1
	programs | while read -r program package; do
		has "$program" || { complain "$program is not installed: apt-get install $package"; exit 1; }
	done || return 1
	if booted; then
		services | while read -r service; do
			if ! systemctl is-active --quiet "$service" && ss -Hlun 'sport = :500' | grep -q .; then
				complain "UDP 500 is in use, and not by $service: another daemon has to stop first"
				exit 1
			fi
		done || return 1
	fi
	needed=$(du -sk "$state/next" | cut -f 1)
	for folder in "$state" /etc; do
		free=$(df -Pk "$folder" | sed -n '2s/^[^ ]* *[0-9]* *[0-9]* *\([0-9]*\).*/\1/p')
		if [ "${free:-0}" -lt $((3 * needed + 1024)) ]; then
			complain "$folder has $free kB free, and $((3 * needed + 1024)) are needed"
			return 1
		fi
	done
	right_parts
}

# What must run, runs, now and after each boot.
settle() {
	services | while read -r service; do
		runs "$service" || { complain "$service does not start"; exit 1; }
	done
}

# Asks again until everything is as it should be: a daemon that was just started takes a moment.
verified() {
	tries=0
	until verify 2>"$work/unverified"; do
		tries=$((tries + 1))
		if [ "$tries" -ge 30 ]; then
			cat "$work/unverified" >&2
			return 1
		fi
		sleep 1
	done
}

# Seconds of 90, 90s, 5m or 1h.
seconds() {
	case $1 in
	*[!0-9smh]* | '' | *[smh]?*) return 1 ;;
	*m) echo $((${1%m} * 60)) ;;
	*h) echo $((${1%h} * 3600)) ;;
	*) echo "${1%s}" ;;
	esac
}

# Takes up what stands beside this program.
take_up() {
	mkdir -p "$state" && chmod 700 "$state" || exit 1
	exec 9>"$state/lock"
	flock -w 3 9 || { complain "something else is at work here"; exit 1; }
	[ -e "$state/pending" ] || rm -rf "$state"/work.*
	work=$(mktemp -d "$state/work.XXXXXX") || exit 1
	trap 'rm -rf "$work" "$state/next" "$state/lines"' EXIT
	if [ -e "$state/pending" ]; then
		[ "$mode_of_run" = forth ] || { complain "an earlier change waits to be confirmed, or was not finished"; exit 1; }
		complain "an earlier change was not finished, or not confirmed: going back first"
		back
		mode_of_run=forth
	fi
	list >"$work/list"
	stage || { complain "what stands beside this program cannot be copied: is there room in $state?"; exit 1; }
	if [ "$(wc -l <"$work/list")" != "$(facts "$state/next" <"$work/list" | wc -l)" ]; then
		complain "files are missing beside this program: copy the whole folder"
		exit 1
	fi
	changes=$work/changes
	compare >"$changes" || exit 1
	right_place || exit 1
	[ "$by_force" = yes ] || untouched || { complain "nothing was done; --replace puts ours in their place, and keeps a copy"; exit 1; }
	if ! grep -qv '^same ' "$changes"; then
		say "$site: everything stands there already"
		[ "$mode_of_run" = tell ] || { settle && verified; }
		exit
	fi
	if [ "$mode_of_run" = tell ]; then
		bring "$state/next"
		exit
	fi
	keep || { complain "no copy can be kept of what is there: is there room in $state?"; exit 1; }
	cp "$0" "$state/$program_name" || exit 1
	note "taking up"
	# Whatever happens to this program, somebody goes back.
	say working 0 >"$state/pending"
	setsid sh "$state/$program_name" --guard "$work" </dev/null >/dev/null 2>&1 9>&- &
	trap '' HUP
	if bring "$state/next" && remember "$work/list" && settle && verified; then
		if [ -n "$within" ]; then
			say "waiting $(($(date +%s) + within))" >"$state/pending"
			# The other process has its folder.
			trap 'rm -rf "$state/next"' EXIT
			say "$site: taken up; it goes back in $within s unless somebody says: sh $0 --confirm"
		else
			rm -f "$state/pending"
			say "$site: taken up"
		fi
		note "taken up"
		exit 0
	fi
	complain "something failed: going back"
	back
	exit 1
}

usage() {
	cat <<END
sh take-up.sh                      takes up what stands beside it, as root on the gateway; what was there is kept
sh take-up.sh --what-if            says what that would do, and does nothing
sh take-up.sh --confirm-within 5m  the same as without, and goes back by itself unless it is confirmed
sh take-up.sh --confirm            confirms it
sh take-up.sh --roll-back          goes back to what was there before the last time
sh take-up.sh --replace            also in the place of files that were changed by hand, or are somebody else's
END
}

mode_of_run=forth
program_name=take-up.sh
within=
by_force=no
state=/var/lib/unified-span
here=$(cd "$(dirname "$0")" && pwd) || exit 1
what=take_up
while [ $# -gt 0 ]; do
	case $1 in
	--what-if) mode_of_run=tell ;;
	--replace) by_force=yes ;;
	--confirm-within)
		within=$(seconds "${2-}") || { usage >&2; exit 2; }
		shift
		;;
	--confirm) what=confirm ;;
	--roll-back) what=roll_back ;;
	--guard)
		work=$2
		what=guard
		shift
		;;
	--help)
		usage
		exit
		;;
	*)
		usage >&2
		exit 2
		;;
	esac
	shift
done
[ "$(id -u)" = 0 ] || { complain "run it as root"; exit 1; }

confirm() {
	exec 9>"$state/lock"
	flock -w 10 9 || { complain "something else is at work here"; exit 1; }
	grep -q '^waiting ' "$state/pending" 2>/dev/null || { complain "nothing waits to be confirmed"; exit 1; }
	rm -f "$state/pending"
	note "confirmed"
	say "$site: confirmed"
}

roll_back() {
	[ -d "$state" ] || { complain "there is nothing to go back to"; exit 1; }
	exec 9>"$state/lock"
	flock -w 10 9 || { complain "something else is at work here"; exit 1; }
	work=$(mktemp -d "$state/work.XXXXXX") || exit 1
	trap 'rm -rf "$work"' EXIT
	back || exit 1
	settle
	say "$site: what was there before stands again"
}

$what
