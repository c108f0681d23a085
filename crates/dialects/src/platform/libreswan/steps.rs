//! How a gateway takes up what this daemon has.

use crate::delivery::{ANY, ARRIVED, DeliveryStep, FileKind, Interruption, NOTHING, PartSteps, WENT};

pub(super) static STEPS: PartSteps = PartSteps {
    programs: &[("ipsec", "libreswan"), ("certutil", "libnss3-tools")],
    helpers: HELPERS,
    leaving: &[DeliveryStep {
        word: "ipsec_delete",
        does: "The daemon ends and forgets connections that are gone.",
        kinds: WENT,
        of: &["etc/ipsec.d/*.conf"],
        interrupts: Interruption::ItsTunnels,
        commands: r#"if pluto_runs; then
	while read -r kind path; do
		[ -e "/$path" ] || continue
		if [ "$kind" = changed ]; then new=$target/$path; else new=/dev/null; fi
		conns "/$path" | sort >"$work/one"
		conns "$new" | sort >"$work/other"
		comm -23 "$work/one" "$work/other" >"$work/gone"
		end_ike "$work/gone"
		while read -r name; do ipsec auto --delete "$name" >/dev/null 2>&1; done <"$work/gone"
	done
fi"#,
    }],
    coming: &[
        DeliveryStep {
            word: "ipsec_keys_out",
            does: "Certificates that are gone leave the database of keys.",
            kinds: &[FileKind::Removed],
            of: &["etc/ipsec.d/*.crt"],
            interrupts: Interruption::Nothing,
            commands: r#"while read -r _ path; do
	name=$(basename "$path" .crt)
	# With the own certificate its key goes, too.
	if [ "$name" = uspan-own ]; then option=-F; else option=-D; fi
	certutil "$option" -n "$name" -d sql:/var/lib/ipsec/nss 2>/dev/null
done
return 0"#,
        },
        DeliveryStep {
            word: "ipsec_keys_in",
            does: "Certificates and keys come into the database of keys.",
            kinds: ARRIVED,
            of: &["etc/ipsec.d/*.crt", "etc/ipsec.d/uspan-own.key"],
            interrupts: Interruption::Nothing,
            commands: KEYS_IN,
        },
        DeliveryStep {
            word: "ipsec_restart",
            does: "The daemon starts anew: it reads its own switches then alone.",
            kinds: ANY,
            of: &["etc/ipsec.d/uspan.setup.conf"],
            interrupts: Interruption::AllTunnels,
            commands: "if pluto_runs; then try systemctl restart ipsec && restarted=yes; fi",
        },
        DeliveryStep {
            word: "ipsec_secrets",
            does: "The daemon reads the secrets.",
            kinds: ANY,
            of: &["etc/ipsec.d/*.secrets", "etc/ipsec.d/*.crt", "etc/ipsec.d/uspan-own.key"],
            interrupts: Interruption::Nothing,
            commands: "if pluto_runs; then try ipsec auto --rereadsecrets; fi",
        },
        DeliveryStep {
            word: "ipsec_add",
            does: "The daemon loads connections that are new or changed, and opens what it is to open.",
            kinds: ARRIVED,
            of: &["etc/ipsec.d/*.conf"],
            interrupts: Interruption::ItsTunnels,
            commands: r#"if pluto_runs && [ -z "${restarted-}" ]; then
	remember_up
	while read -r _ path; do
		conns "/$path" | while read -r name; do
			conn "$name" "/$path" >"$work/one"
			conn "$name" "$work/was/$path" >"$work/other"
			cmp -s "$work/one" "$work/other" || printf '%s %s\n' "$name" "$path"
		done
	done >"$work/reload"
	sed 's/ .*//' "$work/reload" | sort >"$work/gone"
	end_ike "$work/gone"
	while read -r name path; do load_conn "$name" "/$path" || return 1; done <"$work/reload"
	open_conns
fi"#,
        },
    ],
    verify: r#"ipsec whack --status 2>/dev/null >"$work/status"
listed 'etc/ipsec.d/*.conf' | while read -r path; do conns "/$path"; done | while read -r name; do
	grep -qF "\"$name\"" "$work/status" || { complain "the daemon has not loaded $name"; exit 1; }
done || return 1"#,
    ..NOTHING
};

const KEYS_IN: &str = r#"own=no
while read -r _ path; do
	name=$(basename "$path" .crt)
	case $path in
	*/uspan-own.*) own=yes ;;
	*)
		certutil -D -n "$name" -d sql:/var/lib/ipsec/nss 2>/dev/null
		try certutil -A -n "$name" -t CT,, -a -i "/$path" -d sql:/var/lib/ipsec/nss || return 1
		;;
	esac
done
[ "$own" = yes ] && [ -e /etc/ipsec.d/uspan-own.crt ] || return 0
# One of the same name goes first: a renewed one may have another subject.
certutil -D -n uspan-own -d sql:/var/lib/ipsec/nss 2>/dev/null
if [ -e /etc/ipsec.d/uspan-own.key ]; then
	try openssl pkcs12 -export -name uspan-own -in /etc/ipsec.d/uspan-own.crt -inkey /etc/ipsec.d/uspan-own.key -passout pass: -out "$work/own.p12" &&
		try pk12util -i "$work/own.p12" -W '' -d sql:/var/lib/ipsec/nss
	came=$?
	rm -f "$work/own.p12"
	return $came
fi
try certutil -A -n uspan-own -t ,, -a -i /etc/ipsec.d/uspan-own.crt -d sql:/var/lib/ipsec/nss"#;

const HELPERS: &str = r#"pluto_runs() {
	[ -S /run/pluto/pluto.ctl ]
}
# The connections of a file that are loaded; the others are what several of them have in common.
conns() {
	[ ! -e "$1" ] || sed -n '/^conn /{s///;h;};/^[[:space:]]*auto=/{g;p;}' "$1"
}
# A section of a file, without remarks.
section() {
	sed -n "/^conn $1\$/,/^[^[:space:]#]/p" "$2" | grep -v '^[^[:space:]]\|^[[:space:]]*#'
}
# What a connection says, with what it has in common with others; nothing where there is none.
conn() {
	[ -e "$2" ] || return 0
	section "$1" "$2"
	section "$1" "$2" | sed -n 's/^[[:space:]]*also=//p' | while read -r common; do section "$common" "$2"; done
	return 0
}
load_conn() {
	try ipsec auto --replace "$1" || return 1
	case $(conn "$1" "$2" | sed -n 's/^[[:space:]]*auto=//p') in
	start | up) printf '%s\n' "$1" >>"$work/to-open" ;;
	ondemand | route) try ipsec auto --route "$1" ;;
	esac
}
# Ends the IKE SAs of which all SAs are those of connections of a list. Where the peer's address is any, the daemon dies over it when
# the connection goes with which such an IKE SA began, and others still have SAs there (4.10).
end_ike() {
	ipsec whack --showstates 2>/dev/null >"$work/states"
	sed -n 's/^[0-9]* *#\([0-9]*\): "\([^"]*\)".*established IKE SA.*/\1 \2/p' "$work/states" | while read -r number name; do
		grep -qFx -e "$name" "$1" || continue
		if grep -F "$(printf '#%s;' "$number")" "$work/states" | sed 's/^[^"]*"\([^"]*\)".*/\1/' | grep -qvFx -f "$1"; then continue; fi
		ipsec whack --deletestate "$number" >/dev/null 2>&1
	done
}
# The connections that have ESP SAs.
conns_up() {
	ipsec whack --trafficstatus 2>/dev/null | sed -n 's/^[^"]*"\([^"]*\)".*/\1/p' | sort -u
}
# What has SAs before anything changes.
remember_up() {
	[ -e "$work/up" ] || conns_up >"$work/up"
}
# Opens what is to be opened, and what had SAs before: the peer may have no reason to open what ended here.
open_conns() {
	conns_up >"$work/still-up"
	listed 'etc/ipsec.d/*.conf' | while read -r path; do conns "/$path"; done | sort -u >"$work/known"
	comm -23 "$work/up" "$work/still-up" | comm -12 - "$work/known" >>"$work/to-open"
	sort -u "$work/to-open" | while read -r name; do ipsec auto --asynchronous --up "$name" >/dev/null 2>&1; done
	rm -f "$work/to-open"
}"#;
