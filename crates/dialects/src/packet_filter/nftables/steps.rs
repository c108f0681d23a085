//! How a gateway takes up its rules.

use crate::delivery::{ANY, ARRIVED, DeliveryStep, FileKind, Interruption, NOTHING, PartSteps};

pub(super) static STEPS: PartSteps = PartSteps {
    programs: &[("nft", "nftables")],
    helpers: HELPERS,
    leaving: &[DeliveryStep {
        word: "nft_out",
        does: "The packet filter forgets the rules of what is gone.",
        kinds: &[FileKind::Removed],
        of: &["etc/nftables.d/uspan-*.nft"],
        interrupts: Interruption::Nothing,
        commands: "while read -r _ path; do nft_tables \"/$path\" | while read -r table; do try nft \"table $table; delete table $table\" || exit 1; done || return 1; done",
    }],
    coming: &[
        DeliveryStep {
            word: "nft_in",
            does: "The packet filter loads the rules, those of a file at once.",
            kinds: ARRIVED,
            of: &["etc/nftables.d/uspan-*.nft"],
            interrupts: Interruption::Nothing,
            commands: "while read -r _ path; do try nft -f \"/$path\" || return 1; done",
        },
        DeliveryStep {
            word: "nft_joined",
            does: "The chains for your own table are put into place, and your ruleset is loaded where it includes them.",
            kinds: ANY,
            of: &["etc/nftables.d/uspan-*.chains"],
            interrupts: Interruption::Nothing,
            commands: JOINED,
        },
    ],
    check: "sed -n 's/^\\(new\\|changed\\) [0-9]* //p' \"$changes\" | while read -r path; do\n\tcase $path in etc/nftables.d/uspan-*.nft) try nft -c -f \"$state/next/$path\" || exit 1 ;; esac\ndone || return 1",
    ..NOTHING
};

/// The tables that a file of ours fills.
const HELPERS: &str = r#"nft_tables() {
	[ ! -e "$1" ] || sed -n 's/^delete table //p' "$1"
}"#;

/// Loading the administrator's ruleset empties it first, and our tables with it.
const JOINED: &str = r#"if grep -q 'include.*/etc/nftables\.d/uspan-' /etc/nftables.conf 2>/dev/null; then
	try nft -f /etc/nftables.conf || return 1
	for file in /etc/nftables.d/uspan-*.nft; do
		[ ! -e "$file" ] || try nft -f "$file" || return 1
	done
else
	while read -r kind path; do
		[ "$kind" = removed ] || say "    left to you: include /$path in your own table, and jump to its chains, as its head says"
	done
fi"#;
