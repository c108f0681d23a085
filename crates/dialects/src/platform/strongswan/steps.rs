//! How a gateway takes up what this daemon has.

use crate::delivery::{ANY, DeliveryStep, Interruption, NOTHING, PartSteps, WENT};

pub(super) static STEPS: PartSteps = PartSteps {
    programs: &[("swanctl", "strongswan-swanctl"), ("charon-systemd", "charon-systemd")],
    helpers: HELPERS,
    leaving: &[DeliveryStep {
        word: "swanctl_end",
        does: "The SAs of connections that are gone end, at both ends.",
        kinds: WENT,
        of: &["etc/swanctl/conf.d/*.conf"],
        interrupts: Interruption::ItsTunnels,
        commands: r#"while read -r kind path; do
	[ -e "/$path" ] || continue
	if [ "$kind" = changed ]; then new=$target/$path; else new=/dev/null; fi
	swanctl_names "/$path" >"$work/one"
	swanctl_names "$new" >"$work/other"
	grep -Fvx -f "$work/other" "$work/one" | while read -r what name; do
		# Another tunnel may have its Child SAs under the same IKE SA.
		if [ "$what" = ike ] && swanctl_elsewhere "$path" "$name"; then continue; fi
		swanctl --terminate "--$what" "$name" --timeout 10 --force >/dev/null 2>&1
	done
done"#,
    }],
    coming: &[
        DeliveryStep {
            word: "swanctl_switches",
            does: "The daemon reads its switches.",
            kinds: ANY,
            of: &["etc/strongswan.d/uspan.conf"],
            interrupts: Interruption::Nothing,
            commands: "if swanctl_runs; then try swanctl --reload-settings; fi",
        },
        DeliveryStep {
            word: "swanctl_load",
            does: "The daemon loads connections, secrets, keys and certificates.",
            kinds: ANY,
            of: &["etc/swanctl/*"],
            interrupts: Interruption::OpenedTunnels,
            // What is not in the files any more is unloaded, secrets too. A daemon that does not run loads it all when it starts.
            commands: "if swanctl_runs; then try swanctl --load-all --clear --noprompt; fi",
        },
    ],
    verify: r#"listed 'etc/swanctl/conf.d/*.conf' | while read -r path; do
	swanctl_names "/$path" | sed -n 's/^ike //p'
done | sort -u >"$work/wanted"
swanctl --list-conns 2>/dev/null | sed -n 's/^\([^ ]*\): IKEv.*/\1/p' | sort -u >"$work/known"
comm -23 "$work/wanted" "$work/known" >"$work/missing"
if [ -s "$work/missing" ]; then
	complain "the daemon has not loaded: $(tr '\n' ' ' <"$work/missing")"
	return 1
fi"#,
    ..NOTHING
};

const HELPERS: &str = r#"swanctl_runs() {
	[ -S /run/charon.vici ] || [ -S /var/run/charon.vici ]
}
# Lines "ike NAME" and "child NAME" for the connections of a file.
swanctl_names() {
	sed -n '/^connections {/,/^}/{s/^  \([^ ]*\) {$/ike \1/p;s/^      \([^ ]*\) {$/child \1/p;}' "$1"
}
# Whether another file that stays has a connection of this name.
swanctl_elsewhere() {
	listed 'etc/swanctl/conf.d/*.conf' | grep -vFx "$1" | while read -r other; do
		swanctl_names "$target/$other" 2>/dev/null
	done | grep -qFx "ike $2"
}"#;
