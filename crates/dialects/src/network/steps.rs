//! How a gateway takes up its tunnel interfaces and routes.

use crate::delivery::{ARRIVED, DeliveryStep, Interruption, PartSteps, WENT};

/// The steps of interfaces(5).
pub(crate) static STEPS: PartSteps = PartSteps {
    programs: &[("ifup", "ifupdown"), ("ip", "iproute2")],
    helpers: HELPERS,
    leaving: &[DeliveryStep {
        word: "interface_down",
        does: "Tunnel interfaces go that are gone, or are to be of another kind.",
        kinds: WENT,
        of: &["etc/network/interfaces.d/uspan-*"],
        interrupts: Interruption::ItsTunnels,
        commands: r#"while read -r kind path; do
	[ -e "/$path" ] || continue
	if [ "$kind" = changed ] && interface_stays "/$path" "$target/$path"; then continue; fi
	name=$(interface_of "/$path")
	ifdown --force "$name" >"$work/said" 2>&1
	# One that ifdown does not know was set up by hand.
	if ip link show "$name" >/dev/null 2>&1; then try ip link del "$name" || return 1; fi
done"#,
    }],
    coming: &[DeliveryStep {
        word: "interface_up",
        does: "Tunnel interfaces come up, or get their new routes and addresses while they are up.",
        kinds: ARRIVED,
        of: &["etc/network/interfaces.d/uspan-*"],
        interrupts: Interruption::Nothing,
        commands: r#"while read -r kind path; do
	name=$(interface_of "/$path")
	if [ "$kind" = changed ] && ip link show "$name" >/dev/null 2>&1; then
		interface_changes "$work/was/$path" "/$path" || return 1
	elif ! try ifup "$name"; then
		return 1
	fi
done"#,
    }],
    check: r#"sed -n 's/^new [0-9]* //p' "$changes" | while read -r path; do
	case $path in
	etc/network/interfaces.d/uspan-*)
		name=$(interface_of "$state/next/$path")
		if ip link show "$name" >/dev/null 2>&1; then
			complain "there is an interface $name already"
			exit 1
		fi
		;;
	esac
done || return 1"#,
    verify: r#"listed 'etc/network/interfaces.d/uspan-*' | while read -r path; do
	name=$(interface_of "/$path")
	ip link show "$name" up 2>/dev/null | grep -q . || { complain "the interface $name is not up"; exit 1; }
done || return 1"#,
};

const HELPERS: &str = r#"interface_of() {
	sed -n 's/^auto //p' "$1" | head -n 1
}
# Whether a file makes the same interface as another: then only its addresses, routes and rules change.
interface_stays() {
	grep -v '^[[:space:]]*\(up \|down \|#\|$\)' "$1" >"$work/one"
	grep -v '^[[:space:]]*\(up \|down \|#\|$\)' "$2" >"$work/other"
	cmp -s "$work/one" "$work/other"
}
# Does what is new among the commands of a file, and takes back what is no longer there; the interface stays as it is.
interface_changes() {
	sed -n 's/^[[:space:]]*up //p' "$1" >"$work/one"
	sed -n 's/^[[:space:]]*up //p' "$2" >"$work/other"
	grep -Fvx -f "$work/other" "$work/one" | sed -n 's/^\(ip .*\(route\|address\|rule\)\) add /\1 del /p' >"$work/undo"
	grep -Fvx -f "$work/one" "$work/other" | sed 's/^\(ip .*route\) add /\1 replace /' >"$work/do"
	while read -r command; do sh -c "$command" 2>/dev/null; done <"$work/undo"
	while read -r command; do try sh -c "$command" || return 1; done <"$work/do"
}"#;
