//! How a gateway takes up what this daemon has.

use crate::delivery::{ANY, DeliveryStep, Interruption, NOTHING, PartSteps};

pub(super) static STEPS: PartSteps = PartSteps {
    programs: &[("iked", "openiked"), ("ikectl", "openiked")],
    helpers: HELPERS,
    coming: &[DeliveryStep {
        word: "iked_reload",
        does: "The daemon reads its policies; the SAs of peers that are gone end.",
        kinds: ANY,
        of: &["etc/iked*"],
        interrupts: Interruption::ItsTunnels,
        commands: r#"if iked_runs; then
	try ikectl reload || return 1
	while read -r kind path; do
		case $kind,$path in removed,etc/iked.d/*.conf) ;; *) continue ;; esac
		[ -e "$work/was/$path" ] || continue
		sed -n 's/.*dstid "\{0,1\}\([^" ]*\).*/\1/p' "$work/was/$path" | while read -r id; do
			for kind in IPV4 IPV6 FQDN UFQDN ASN1_DN; do ikectl reset id "$kind/$id" >/dev/null 2>&1; done
		done
	done
fi"#,
    }],
    check: r#"if grep -q '^\(new\|changed\) [0-9]* etc/iked' "$changes" && [ -e "$state/next/etc/iked.conf" ]; then
	# What it includes stands beside it, not yet in its place.
	sed "s|\"/etc/iked|\"$state/next/etc/iked|" "$state/next/etc/iked.conf" >"$work/iked.conf"
	chmod 600 "$work/iked.conf"
	try iked_reads "$work/iked.conf" || return 1
fi"#,
    ..NOTHING
};

/// Its parser says on the channel of errors that all is well.
const HELPERS: &str = "iked_runs() {\n\t[ -S /run/iked.sock ] || [ -S /var/run/iked.sock ]\n}\n\
                       iked_reads() {\n\tiked -n -f \"$1\" 2>&1\n}";
