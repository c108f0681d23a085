//! How a gateway takes up its routing sessions.

use crate::delivery::{ARRIVED, DeliveryStep, Interruption, NOTHING, PartSteps, WENT};

/// The steps of FRRouting.
pub(crate) static STEPS: PartSteps = PartSteps {
    programs: &[("vtysh", "frr")],
    helpers: HELPERS,
    leaving: &[DeliveryStep {
        word: "session_out",
        does: "The router ends the sessions of what is gone or changes; what the administrator has beside them stays.",
        kinds: WENT,
        of: &["etc/frr/uspan-*.conf"],
        interrupts: Interruption::ItsTunnels,
        commands: "while read -r _ path; do session_out \"$path\"; done\nsession_write",
    }],
    coming: &[
        DeliveryStep {
            word: "session_daemon",
            does: "The router's BGP daemon is turned on, if it was off.",
            kinds: ARRIVED,
            of: &["etc/frr/uspan-*.conf"],
            interrupts: Interruption::Nothing,
            commands: r#"if grep -q '^bgpd=yes' /etc/frr/daemons; then return 0; fi
cp -p /etc/frr/daemons /etc/frr/daemons.uspan-new && sed -i 's/^bgpd=.*/bgpd=yes/' /etc/frr/daemons.uspan-new || return 1
mv -f /etc/frr/daemons.uspan-new /etc/frr/daemons || return 1
if booted; then
	systemctl enable frr >/dev/null 2>&1
	# It starts what is new, and leaves the others alone.
	if systemctl is-active --quiet frr; then try systemctl reload frr; else try systemctl start frr; fi
fi"#,
        },
        DeliveryStep {
            word: "session_in",
            does: "The router takes up the sessions, and keeps them over its restart.",
            kinds: ARRIVED,
            of: &["etc/frr/uspan-*.conf"],
            interrupts: Interruption::Nothing,
            commands: "while read -r _ path; do session_theirs \"$path\"; try vtysh -f \"/$path\" || return 1; done\nsession_write",
        },
    ],
    verify: r#"listed 'etc/frr/uspan-*.conf' | while read -r path; do
	sed -n 's/^ \(neighbor [^ ]* remote-as .*\)/\1/p' "/$path"
done >"$work/wanted"
[ ! -s "$work/wanted" ] || vtysh -c 'show running-config' >"$work/running"
while read -r line; do
	grep -qF "$line" "$work/running" || { complain "the router has not taken up: $line"; return 1; }
done <"$work/wanted""#,
    ..NOTHING
};

const HELPERS: &str = r#"session_write() {
	vtysh -c 'write memory' >/dev/null 2>&1
	return 0
}
# Of what a file says, the router may have something already: that is the administrator's, and stays when ours goes.
session_theirs() {
	vtysh -c 'show running-config' >"$work/running" 2>/dev/null
	sed -n 's/^ *\(network .*\)/\1/p;s/^\(router bgp .*\)/\1/p' "/$1" | while read -r line; do
		if grep -qFx "$line" "$state/announced" 2>/dev/null; then continue; fi
		grep -q "^ *$line\$" "$work/running" || say "$line" >>"$state/announced"
	done
}
# Takes a statement back that was ours, unless another file has it too.
session_ours() {
	grep -qFx "$2" "$state/announced" 2>/dev/null || return 0
	for other in /etc/frr/uspan-*.conf; do
		if [ "$other" != "/$1" ] && grep -q "^ *$2\$" "$other" 2>/dev/null; then return 0; fi
	done
	grep -vFx "$2" "$state/announced" >"$work/announced"
	cat "$work/announced" >"$state/announced"
	shift 2
	vtysh -c 'configure terminal' "$@" >/dev/null 2>&1
}
session_out() {
	[ -e "/$1" ] || return 0
	router=$(sed -n 's/^\(router bgp .*\)/\1/p' "/$1" | head -n 1)
	sed -n 's/^ \(neighbor [^ ]*\) remote-as .*/\1/p' "/$1" | sort -u | while read -r line; do
		vtysh -c 'configure terminal' -c "$router" -c "no $line" >/dev/null 2>&1
	done
	sed -n 's/^\(ip\(v6\)\{0,1\} prefix-list [^ ]*\) .*/\1/p' "/$1" | sort -u | while read -r line; do
		vtysh -c 'configure terminal' -c "no $line" >/dev/null 2>&1
	done
	family=$(sed -n 's/^ \(address-family .* unicast\)/\1/p' "/$1" | tail -n 1)
	sed -n 's/^ *\(network .*\)/\1/p' "/$1" | while read -r line; do
		session_ours "$1" "$line" -c "$router" -c "$family" -c "no $line"
	done
	vtysh -c 'show running-config' | grep -q '^ neighbor' || session_ours "$1" "$router" -c "no $router"
}"#;
