//! The program that takes a gateway's files up, run by real shells on a folder that stands for a gateway's `/etc`. What it calls is
//! replaced by small programs that note how they were called; the lab does it with the real ones.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests have files of their own")]

mod common;

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use common::{mode, uspan, write};

/// Runs what follows with folders of the gateway in the places of the machine's own.
const INSIDE: &str = "gateway=$1; shift; for at in etc var/lib run; do mount --bind \"$gateway/$at\" \"/$at\" || exit 9; done; \
                      echo $$ >\"$gateway/pid\"; PATH=$gateway/bin:$PATH GATEWAY=$gateway exec \"$@\"";

/// What stands for each program that a gateway has.
const STAND_IN: &str = r#"#!/bin/sh
name=$(basename "$0")
count=$(($(cat "$GATEWAY/count" 2>/dev/null || echo 0) + 1))
echo "$count" >"$GATEWAY/count"
if [ "$count" = "${DIES_AT-}" ]; then kill -9 "$(cat "$GATEWAY/pid")"; fi
if [ -x "/bin/$name" ] && [ "$name" != ip ]; then exec "/bin/$name" "$@"; fi
echo "$name $*" >>"$GATEWAY/said"
if grep -qxF "$name $1" "$GATEWAY/fails" 2>/dev/null; then echo "refused"; exit 1; fi
case "$name $*" in
"ip -o address show") echo "2: wan0    inet $(cat "$GATEWAY/address")/24 scope global wan0" ;;
"ip link show wan0" | "ip link show eth0" | "ip link show lan0" | "ip link show eth1") ;;
"ip link show "*) grep -qxF "$4" "$GATEWAY/links" 2>/dev/null || grep -qxF "$3" "$GATEWAY/links" 2>/dev/null || exit 1; echo up ;;
"ifup "*) [ ! -e "$GATEWAY/complains" ] || echo "Cannot find device" >&2; echo "$1" >>"$GATEWAY/links" ;;
"ifdown "*) : >"$GATEWAY/links" ;;
"swanctl --load-all"*) [ ! -e "$GATEWAY/complains" ] || echo "harvest: unknown option 'failover', ignored"; echo "loaded connection 'failover'" ;;
"swanctl --list-conns") for file in /etc/swanctl/conf.d/*.conf; do sed -n '/^connections {/,/^}/s/^  \([^ ]*\) {$/\1: IKEv2/p' "$file"; done ;;
"ipsec whack --status") cat /etc/ipsec.d/*.conf | sed -n '/^conn /{s///;h;};/auto=/{g;s/.*/"&"/;p;}' ;;
esac
exit 0
"#;

const STAND_INS: &[&str] = &[
    "mv",
    "cp",
    "rm",
    "mkdir",
    "ip",
    "ss",
    "swanctl",
    "charon-systemd",
    "ipsec",
    "certutil",
    "nft",
    "iptables",
    "ip6tables",
    "ifup",
    "ifdown",
    "iked",
    "ikectl",
    "vtysh",
];

/// Shells that gateways have.
const SHELLS: &[&[&str]] = &[&["dash"], &["busybox", "sh"]];

const PAIR: &str = r#"unified-span = 1
[site.packhouse]
platform = "PLATFORM"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
MORE
[site.coldstore]
platform = "openiked"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20" }
[tunnel.harvest]
between = ["packhouse", "coldstore"]
secret = { file = "harvest.key" }
"#;

/// A gateway that is a folder.
struct Gateway {
    folder: tempfile::TempDir,
    /// Where the builds stand.
    builds: tempfile::TempDir,
    shell: &'static [&'static str],
}

impl Gateway {
    fn new(shell: &'static [&'static str]) -> Gateway {
        let folder = tempfile::Builder::new().prefix("uspan-test-").tempdir_in("/var/tmp").expect("a folder");
        for below in ["etc/swanctl/private", "var/lib", "run/pluto", "bin"] {
            fs::create_dir_all(folder.path().join(below)).expect("made");
        }
        fs::set_permissions(folder.path().join("etc/swanctl/private"), fs::Permissions::from_mode(0o700)).expect("set");
        for name in STAND_INS {
            write(&folder.path().join("bin").join(name), STAND_IN, 0o755);
        }
        // The machine's leads through /etc.
        std::os::unix::fs::symlink(fs::canonicalize("/usr/bin/awk").expect("awk"), folder.path().join("bin/awk")).expect("linked");
        for socket in ["run/charon.vici", "run/pluto/pluto.ctl", "run/iked.sock"] {
            drop(std::os::unix::net::UnixListener::bind(folder.path().join(socket)).expect("a socket"));
        }
        write(&folder.path().join("address"), "198.51.100.20\n", 0o644);
        let builds = tempfile::tempdir().expect("a folder");
        write(&builds.path().join("harvest.key"), format!("{}\n", common::SECRET), 0o600);
        Gateway { folder, builds, shell }
    }

    /// Builds a description under a name, and returns the folder of the packhouse.
    fn built(&self, name: &str, text: &str) -> PathBuf {
        let below = self.builds.path();
        write(&below.join(format!("{name}.span.toml")), text, 0o644);
        let run = uspan(below, &["build", &format!("{name}.span.toml"), "-o", name, "--replace"]);
        assert_eq!(run.code, 0, "{}", run.all());
        below.join(name).join("packhouse")
    }

    fn run(&self, tree: &Path, args: &[&str]) -> (i32, String) {
        self.run_dying(tree, args, "")
    }

    /// The same; the program is killed when as many others were called.
    fn run_dying(&self, tree: &Path, args: &[&str], dies_at: &str) -> (i32, String) {
        let output = Command::new("unshare")
            .args(["--mount", "sh", "-c", INSIDE, "sh"])
            .arg(self.folder.path())
            .args(self.shell)
            .arg(tree.join("take-up.sh"))
            .args(args)
            .env("DIES_AT", dies_at)
            .output()
            .expect("it runs");
        let text = [output.stdout, output.stderr].concat();
        (output.status.code().unwrap_or(-1), String::from_utf8_lossy(&text).into_owned())
    }

    fn at(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    /// Each file below `/etc`, with its mode and its text.
    fn etc(&self) -> BTreeMap<PathBuf, (u32, String)> {
        let etc = self.at("etc");
        let files = common::files(&etc).into_iter();
        files
            .map(|path| (path.strip_prefix(&etc).expect("below").to_owned(), (mode(&path), fs::read_to_string(&path).expect("read"))))
            .collect()
    }

    /// What was called, but for what only looks.
    fn said(&self) -> Vec<String> {
        let text = fs::read_to_string(self.at("said")).unwrap_or_default();
        let _ = fs::remove_file(self.at("said"));
        let looks = ["ip ", "ss ", "nft -c", "swanctl --list", "ipsec whack --status", "iked -n"];
        text.lines().filter(|line| !looks.iter().any(|look| line.starts_with(look))).map(str::to_owned).collect()
    }

    /// Waits until nobody stands by any more.
    fn settled(&self) {
        let since = Instant::now();
        while self.at("var/lib/unified-span/pending").exists() && since.elapsed() < Duration::from_secs(60) {
            std::thread::sleep(Duration::from_millis(50));
        }
        assert!(!self.at("var/lib/unified-span/pending").exists());
    }
}

fn pair(platform: &str, more: &str) -> String {
    PAIR.replace("PLATFORM", platform).replace("MORE", more)
}

#[test]
#[ignore = "needs root: ./test turns it on"]
fn it_is_taken_up_once_and_goes_back_as_it_was() {
    for shell in SHELLS {
        let gateway = Gateway::new(shell);
        let [first, second] = [("first", "strongswan", ""), ("second", "strongswan", "style = \"route-based\"")]
            .map(|(name, platform, more)| gateway.built(name, &pair(platform, more)));
        let empty = gateway.etc();
        let (code, text) = gateway.run(&first, &["--what-if"]);
        assert!(code == 0 && text.contains("new /etc/swanctl/conf.d/harvest.conf") && gateway.etc() == empty, "{text}");
        assert_eq!(gateway.said(), Vec::<String>::new());
        let (code, text) = gateway.run(&first, &[]);
        assert_eq!(code, 0, "{text}");
        assert_eq!(gateway.said(), ["nft -f /etc/nftables.d/uspan-harvest.nft", "swanctl --load-all --clear --noprompt"]);
        let one = gateway.etc();
        assert_eq!(one[Path::new("swanctl/conf.d/harvest.secrets.conf")].0, 0o600);
        assert_eq!(mode(&gateway.at("etc/swanctl/private")), 0o700);
        // As often as one likes.
        let (code, text) = gateway.run(&first, &[]);
        assert!(code == 0 && text.contains("everything stands there already"), "{text}");
        assert_eq!(gateway.said(), Vec::<String>::new());
        let (code, text) = gateway.run(&second, &[]);
        assert_eq!(code, 0, "{text}");
        assert!(gateway.said().iter().any(|line| line.starts_with("ifup ")));
        assert_ne!(gateway.etc(), one);
        let (code, text) = gateway.run(&second, &["--roll-back"]);
        assert_eq!((code, gateway.etc()), (0, one.clone()), "{text}");
        assert!(gateway.said().iter().any(|line| line.starts_with("ifdown ")));
        let (code, text) = gateway.run(&first, &[]);
        assert!(code == 0 && text.contains("everything stands there already"), "{text}");
        assert!(!fs::read_to_string(gateway.at("var/lib/unified-span/log")).expect("a log").contains(common::SECRET));
    }
}

#[test]
#[ignore = "needs root: ./test turns it on"]
fn what_is_not_ours_or_was_changed_by_hand_stays() {
    let gateway = Gateway::new(SHELLS[0]);
    let tree = gateway.built("first", &pair("strongswan", ""));
    let conf = gateway.at("etc/swanctl/conf.d/harvest.conf");
    write(&conf, "connections {\n}\n", 0o640);
    let (code, text) = gateway.run(&tree, &[]);
    assert!(code == 1 && text.contains("/etc/swanctl/conf.d/harvest.conf stands there already"), "{text}");
    assert_eq!(fs::read_to_string(&conf).expect("read"), "connections {\n}\n");
    let (code, text) = gateway.run(&tree, &["--replace"]);
    assert_eq!(code, 0, "{text}");
    let (code, _) = gateway.run(&tree, &["--roll-back"]);
    assert_eq!((code, fs::read_to_string(&conf).expect("read").as_str(), mode(&conf)), (0, "connections {\n}\n", 0o640));
    assert_eq!(gateway.run(&tree, &["--replace"]).0, 0);
    fs::write(&conf, format!("{}# by hand\n", fs::read_to_string(&conf).expect("read"))).expect("written");
    let (code, text) = gateway.run(&tree, &[]);
    assert!(code == 1 && text.contains("/etc/swanctl/conf.d/harvest.conf was changed by hand"), "{text}");
    // Another machine.
    write(&gateway.at("address"), "198.51.100.99\n", 0o644);
    let (code, text) = gateway.run(&tree, &["--replace"]);
    assert!(code == 1 && text.contains("another machine"), "{text}");
}

#[test]
#[ignore = "needs root: ./test turns it on"]
fn what_fails_leaves_what_was_there() {
    for (platform, fails) in
        [("strongswan", "nft -f"), ("strongswan", "swanctl --load-all"), ("libreswan", "ipsec auto"), ("openiked", "ikectl reload")]
    {
        let gateway = Gateway::new(SHELLS[0]);
        let (old, new) =
            (gateway.built("old", &pair(platform, "")), gateway.built("new", &pair(platform, "").replace("10.41.0.0/22", "10.41.0.0/23")));
        let (code, text) = gateway.run(&old, &[]);
        assert_eq!(code, 0, "{platform}: {text}");
        let before = gateway.etc();
        write(&gateway.at("fails"), format!("{fails}\n"), 0o644);
        let (code, text) = gateway.run(&new, &[]);
        assert!(code == 1 && text.contains("going back"), "{platform}: {text}");
        assert!(gateway.etc() == before && !gateway.at("var/lib/unified-span/pending").exists(), "{platform}: {text}");
    }
}

/// What the programs of the gateway complain of is shown, though they succeed; what they say otherwise is not.
#[test]
#[ignore = "needs root: ./test turns it on"]
fn complaints_are_shown() {
    for shell in SHELLS {
        for complains in [true, false] {
            let gateway = Gateway::new(shell);
            if complains {
                write(&gateway.at("complains"), "", 0o644);
            }
            let tree = gateway.built("new", &pair("strongswan", "style = \"route-based\""));
            let (code, text) = gateway.run(&tree, &[]);
            assert_eq!(code, 0, "{text}");
            for said in
                ["ifup us-harvest says:\n    Cannot find device\n", "--noprompt says:\n    harvest: unknown option 'failover', ignored\n"]
            {
                assert_eq!(text.contains(said), complains, "{text}");
            }
            assert_eq!(text.contains("says:"), complains, "{text}");
        }
    }
}

#[test]
#[ignore = "needs root: ./test turns it on"]
fn unconfirmed_it_goes_back_by_itself() {
    for shell in SHELLS {
        let gateway = Gateway::new(shell);
        let (old, new) = (gateway.built("old", &pair("strongswan", "")), gateway.built("new", &pair("strongswan", "filter = \"joined\"")));
        assert_eq!(gateway.run(&old, &[]).0, 0);
        let before = gateway.etc();
        let (code, text) = gateway.run(&new, &["--confirm-within", "1s"]);
        assert!(code == 0 && text.contains("--confirm"), "{text}");
        gateway.settled();
        assert_eq!(gateway.etc(), before);
        assert_eq!(gateway.run(&new, &["--confirm-within", "5m"]).0, 0);
        let (code, text) = gateway.run(&new, &["--confirm"]);
        assert_eq!(code, 0, "{text}");
        gateway.settled();
        assert_ne!(gateway.etc(), before);
        assert_eq!(gateway.run(&new, &["--confirm"]).0, 1);
    }
}

#[test]
#[ignore = "needs root: ./test turns it on"]
fn killed_at_any_moment_the_old_stands_or_the_new() {
    let gateway = Gateway::new(SHELLS[0]);
    let (old, new) = (gateway.built("old", &pair("strongswan", "")), gateway.built("new", &pair("strongswan", "style = \"route-based\"")));
    let fresh = || {
        let gateway = Gateway::new(SHELLS[0]);
        assert_eq!(gateway.run(&old, &[]).0, 0);
        let _ = fs::remove_file(gateway.at("count"));
        gateway
    };
    let gateway = fresh();
    let before = gateway.etc();
    assert_eq!(gateway.run(&new, &[]).0, 0);
    let after = gateway.etc();
    let calls: usize = fs::read_to_string(gateway.at("count")).expect("a count").trim().parse().expect("a number");
    assert!(calls >= 40);
    let (mut olds, mut news) = (0, 0);
    for dies_at in (1..=calls).step_by(2) {
        let gateway = fresh();
        let (code, text) = gateway.run_dying(&new, &[], &dies_at.to_string());
        assert_ne!(code, 1, "{text}");
        gateway.settled();
        let stands = gateway.etc();
        assert!(stands == before || stands == after, "killed at call {dies_at} of {calls}: {:?}\n{text}", stands.keys());
        if stands == before {
            olds += 1;
        } else {
            news += 1;
        }
        // And it can be taken up again.
        let (code, text) = gateway.run(&new, &[]);
        assert_eq!((code, gateway.etc() == after), (0, true), "killed at call {dies_at} of {calls}: {text}");
    }
    assert!(olds >= 10 && news >= 1, "{olds} {news}");
}

#[test]
#[ignore = "needs root: ./test turns it on"]
fn what_leaves_a_description_leaves_the_gateway() {
    let gateway = Gateway::new(SHELLS[0]);
    let more = "[site.press]\nplatform = \"strongswan\"\ngateway = { address = \"192.0.2.9\", outside = \"wan0\", inside = \"lan0\" }\nnetworks = { hall = \"10.90.0.0/24\" }\n\
                [tunnel.cider]\nbetween = [\"packhouse\", \"press\"]\nsecret = { file = \"cider.key\" }\n";
    write(&gateway.builds.path().join("cider.key"), format!("{}x\n", common::SECRET), 0o600);
    let two = gateway.built("two", &format!("{}{more}", pair("strongswan", "")));
    let one = gateway.built("one", &pair("strongswan", ""));
    assert_eq!(gateway.run(&two, &[]).0, 0);
    gateway.said();
    let (code, text) = gateway.run(&one, &[]);
    assert_eq!(code, 0, "{text}");
    assert!(gateway.etc().keys().all(|path| !path.display().to_string().contains("cider")));
    let said = gateway.said();
    let wanted =
        ["swanctl --terminate --ike cider", "nft table inet uspan-cider; delete table inet uspan-cider", "swanctl --load-all --clear"];
    for line in wanted {
        assert!(said.iter().any(|said| said.starts_with(line)), "{line}: {said:?}");
    }
    // The other tunnel is not touched.
    assert!(said.iter().all(|line| !line.contains("harvest")), "{said:?}");
}

/// Lines of an administrator in a file that others have lines in stay where they are.
#[test]
#[ignore = "needs root: ./test turns it on"]
fn a_file_of_several_keeps_what_others_wrote() {
    let gateway = Gateway::new(SHELLS[0]);
    let tree = gateway.built("first", &pair("openiked", ""));
    let conf = gateway.at("etc/iked.conf");
    let theirs = "# ours since 2019\nset passive\n";
    write(&conf, theirs, 0o600);
    let (code, text) = gateway.run(&tree, &[]);
    assert_eq!(code, 0, "{text}");
    let joint = fs::read_to_string(&conf).expect("read");
    assert!(joint.starts_with(theirs) && joint.contains("include \"/etc/iked.d/harvest.conf\""), "{joint}");
    fs::write(&conf, format!("{joint}set nofragmentation\n")).expect("written");
    let (code, text) = gateway.run(&tree, &[]);
    assert_eq!(code, 0, "{text}");
    let (code, text) = gateway.run(&gateway.built("other", &pair("strongswan", "")), &[]);
    assert_eq!(code, 0, "{text}");
    let left = fs::read_to_string(&conf).expect("read");
    assert_eq!(left, format!("{theirs}set nofragmentation\n"), "{left}");
}

/// Every program, for each platform with each packet filter.
#[test]
#[ignore = "needs shellcheck: ./test turns it on"]
fn the_programs_pass_the_shells_and_their_critic() {
    let gateway = Gateway::new(SHELLS[0]);
    for platform in ["strongswan", "libreswan", "openiked"] {
        for more in ["", "packet-filter = \"iptables\"", "style = \"route-based\""] {
            // It has no interfaces of its own.
            let more = if platform == "openiked" { more.replace("style", "title") } else { more.to_owned() };
            let name = format!("{platform}-{}", more.len());
            let tree = gateway.built(&name, &pair(platform, &more));
            let program = tree.join("take-up.sh");
            for critic in [&["shellcheck", "-s", "sh"][..], &["dash", "-n"], &["busybox", "sh", "-n"]] {
                let output = Command::new(critic[0]).args(&critic[1..]).arg(&program).output().expect("it runs");
                assert!(output.status.success(), "{name}: {}", String::from_utf8_lossy(&[output.stdout, output.stderr].concat()));
            }
        }
    }
}
