//! How a gateway takes up its rules.

use crate::delivery::{ARRIVED, DeliveryStep, FileKind, Interruption, NOTHING, PartSteps};

pub(super) static STEPS: PartSteps = PartSteps {
    programs: &[("iptables", "iptables"), ("ip6tables", "iptables")],
    helpers: HELPERS,
    leaving: &[DeliveryStep {
        word: "iptables_out",
        does: "The packet filter forgets the rules of what is gone.",
        kinds: &[FileKind::Removed],
        of: &["etc/iptables/uspan-*.v4", "etc/iptables/uspan-*.v6"],
        interrupts: Interruption::Nothing,
        commands: "while read -r _ path; do iptables_forget \"/$path\" \"$path\"; done",
    }],
    coming: &[
        DeliveryStep {
            word: "iptables_in",
            does: "The packet filter loads the rules, those of a table at once.",
            kinds: ARRIVED,
            of: &["etc/iptables/uspan-*.v4", "etc/iptables/uspan-*.v6"],
            interrupts: Interruption::Nothing,
            commands: "while read -r _ path; do try \"$(iptables_of \"$path\")-restore\" --noflush \"/$path\" || return 1; done",
        },
        DeliveryStep {
            word: "iptables_jumps",
            does: "The packet filter jumps to the rules.",
            kinds: ARRIVED,
            of: &["etc/iptables/uspan-*.v4-jumps", "etc/iptables/uspan-*.v6-jumps"],
            interrupts: Interruption::Nothing,
            commands: "while read -r _ path; do iptables_jump \"$path\" || return 1; done",
        },
    ],
    ..NOTHING
};

const HELPERS: &str = r#"iptables_of() {
	case $1 in *.v6*) echo ip6tables ;; *) echo iptables ;; esac
}
# The jumps of a file come in front of all other rules, unless they are there already.
iptables_jump() {
	program=$(iptables_of "$1")
	table=$(sed -n 's/^\*//p' "/$1" | head -n 1)
	jump=$(sed -n 's/^-I //p' "/$1" | head -n 1)
	# shellcheck disable=SC2086
	"$program" -t "$table" -C $jump 2>/dev/null || try "$program-restore" --noflush "/$1"
}
# The chains of a file go, and every jump to them.
iptables_forget() {
	[ -e "$1" ] || return 0
	program=$(iptables_of "$2")
	table=
	while read -r word _; do
		case $word in
		'*'*) table=${word#?} ;;
		:uspan-*)
			chain=${word#:}
			for from in PREROUTING INPUT FORWARD OUTPUT POSTROUTING; do
				while "$program" -t "$table" -D "$from" -j "$chain" 2>/dev/null; do :; done
			done
			"$program" -t "$table" -F "$chain" 2>/dev/null && "$program" -t "$table" -X "$chain"
			;;
		esac
	done <"$1"
}"#;
