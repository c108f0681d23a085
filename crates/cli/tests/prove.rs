//! `uspan prove`: varied descriptions come up at the first try, sabotaged pairs fail at the right check, and nothing
//! is left behind.
//!
//! Needs root and Debian 12; `prove --prepare` installs what it needs. Where that is not possible the tests say so
//! loudly; with CI=true that is a failure.

mod common;

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{LazyLock, Mutex, PoisonError};
use std::time::Duration;

use common::{SECRET, uspan, write};
use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;
use uspan_lab::Ground;

static READY: LazyLock<bool> = LazyLock::new(|| {
    let run = uspan(Path::new("/"), &["prove", "--prepare"]);
    let ready = run.code == 0;
    if !ready {
        assert!(std::env::var_os("CI").is_none(), "the lab must run in CI: {}", run.all());
        eprintln!("NOT PROVEN: no tunnel has come up between real daemons: {}", run.all());
    }
    ready
});

/// The tests take turns: the last one counts what is left on the machine.
static TURN: Mutex<()> = Mutex::new(());

/// A secret for a second tunnel.
const OTHER: &str = "Zr4uY8wQe1TnM5pVb9XcF2kDhG7jLsO0aPiEyNtC6vB";

/// A folder below /var/tmp with secrets in it.
fn folder() -> tempfile::TempDir {
    let folder = tempfile::Builder::new().prefix("uspan-test-").tempdir_in("/var/tmp").expect("a folder");
    write(&folder.path().join("k"), format!("{SECRET}\n"), 0o600);
    write(&folder.path().join("k2"), format!("{OTHER}\n"), 0o600);
    folder
}

const SS: &str = "strongswan";
const LSW: &str = "libreswan";
const OI: &str = "openiked";

/// A pair of gateways, to be varied.
#[derive(Clone)]
struct Pair {
    platforms: [&'static str; 2],
    addresses: [&'static str; 2],
    networks: [&'static str; 2],
    sites: [&'static str; 2],
    tunnel: &'static str,
}

const ORCHARD: Pair = Pair {
    platforms: [SS, LSW],
    addresses: ["198.51.100.20", "203.0.113.77"],
    networks: ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""],
    sites: ["shares-internet = true", "shares-internet = true"],
    tunnel: "",
};

impl Pair {
    fn text(&self) -> String {
        let mut text = "unified-span = 1\n".to_owned();
        for (i, name) in ["packhouse", "coldstore"].iter().enumerate() {
            let _ = write!(
                text,
                "[site.{name}]\nplatform = \"{}\"\ngateway = {{ address = \"{}\", outside = \"wan0\", inside = [\"lan0\", \"lan1\"] }}\n\
                 networks = {{ {} }}\n{}\n",
                self.platforms[i], self.addresses[i], self.networks[i], self.sites[i]
            );
        }
        let _ = write!(text, "[tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"k\" }}\n{}\n", self.tunnel);
        text
    }
}

fn pair(platforms: [&'static str; 2], tunnel: &'static str) -> Pair {
    Pair { platforms, tunnel, ..ORCHARD }
}

const MIXED: [[&str; 2]; 2] = [[SS, LSW], [LSW, SS]];

/// Offers: each proposal family, on both platforms.
#[rustfmt::skip]
const OFFERS: &[&str] = &[
    "strength = \"strong\"",
    "strength = \"brisk\"",
    "strength = \"common\"",
    r#"ike = [{ encryption = "aes-256-gcm", prf = "sha2-512", group = "ecp-521" }]
       esp = [{ encryption = "aes-256-gcm" }]"#,
    r#"ike = [{ encryption = "aes-128-gcm", prf = "sha2-256", group = "curve25519" }]
       esp = [{ encryption = "aes-128-gcm" }]"#,
    r#"ike = [{ encryption = "chacha20-poly1305", prf = "sha2-256", group = "curve25519" }]
       esp = [{ encryption = "chacha20-poly1305" }]"#,
    r#"ike = [{ encryption = "aes-128-cbc", integrity = "sha2-256", group = "modp-2048" }]
       esp = [{ encryption = "aes-128-cbc", integrity = "sha2-256" }]
       pfs = "modp-2048""#,
    r#"ike = [{ encryption = "aes-256-cbc", integrity = "sha2-512", group = "modp-4096" }]
       esp = [{ encryption = "aes-256-cbc", integrity = "sha2-512" }]
       pfs = "modp-4096""#,
    r#"ike = [{ encryption = "aes-192-cbc", integrity = "sha2-384", group = "ecp-384" }]
       esp = [{ encryption = "aes-192-cbc", integrity = "sha2-384" }]
       pfs = false"#,
    r#"ike = [{ encryption = "aes-256-ctr", integrity = "sha2-256", group = "modp-3072" }]
       esp = [{ encryption = "aes-256-ctr", integrity = "sha2-256" }]"#,
    r#"ike = [{ encryption = "aes-256-gcm", prf = "sha2-256", group = "curve25519" }]
       esp = [{ encryption = "aes-256-ccm" }]
       pfs = "curve25519""#,
    r#"esp = [{ encryption = "camellia-256-cbc", integrity = "sha2-256" }]"#,
];

/// What else a description can say of a tunnel and its sites.
#[rustfmt::skip]
const VARIETIES: &[(&str, [&str; 2], [&str; 2])] = &[
    // The tunnel; the sites; their networks.
    ("opened-by = \"coldstore\"", ["shares-internet = true", ""], ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""]),
    ("opened-by = \"either\"", ["", ""], ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\""]),
    ("opened-by = \"either\"\nopens = \"on-traffic\"", ["filter = \"joined\"", "filter = \"joined\"\nshares-internet = true"],
        ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""]),
    ("opened-by = \"packhouse\"\nopens = \"on-traffic\"\nliveness = \"10s\"", ["identity = { name = \"packhouse.example.net\" }", "identity = { mail = \"gate@coldstore.example.net\" }"],
        ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""]),
    ("opens = \"by-hand\"\nliveness = \"off\"", ["identity = { free = \"orchard-gate-7\" }", "identity = { free = \"cold/gate:1\" }"],
        ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""]),
    ("esp-lifetime = \"5m\"\nike-lifetime = \"15m\"", ["identity = { mail = \"gate+7@packhouse.example.net\" }\nfilter = \"joined\"\nshares-internet = true", "identity = { name = \"coldstore.example.net\" }\nshares-internet = true"],
        ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""]),
    ("carries = [[\"office\", \"racks\"], [\"graders\", \"dock\"]]", ["shares-internet = true", "shares-internet = true\nfilter = \"joined\""],
        ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""]),
    ("pfs = false\nliveness = \"off\"", ["identity = { address = \"198.51.100.20\" }", "shares-internet = true"],
        ["server = \"10.41.0.7/32\", pair = \"10.41.1.8/31\"", "racks = \"10.73.16.0/30\""]),
];

/// IPv6, outside and inside.
const SIX: Pair = Pair {
    platforms: [SS, LSW],
    addresses: ["2001:db8:1::20", "2001:db8:2::77"],
    networks: ["office = \"2001:db8:41::/64\"", "racks = \"2001:db8:73::/64\", dock = \"fd73:16::/48\""],
    sites: ["shares-internet = true", "filter = \"joined\""],
    tunnel: "",
};

/// What OpenIKED can do with others, short-lived because only its timers rekey.
const SHORT: &str = "esp-lifetime = \"10m\"\nike-lifetime = \"30m\"\n";

fn with_openiked() -> Vec<Pair> {
    let mut pairs = Vec::new();
    for platforms in [[SS, OI], [OI, SS], [LSW, OI], [OI, LSW], [OI, OI]] {
        pairs.push(Pair {
            platforms,
            sites: ["identity = { name = \"packhouse.example.net\" }\nfilter = \"joined\"", ORCHARD.sites[1]],
            ..ORCHARD
        });
        pairs.push(Pair { platforms, tunnel: "strength = \"brisk\"\nopened-by = \"coldstore\"", ..ORCHARD });
        pairs.push(Pair {
            platforms,
            tunnel: "strength = \"common\"\npfs = false\nliveness = \"10s\"",
            networks: ["office = \"2001:db8:41::/64\"", "racks = \"fd73:16::/48\""],
            ..SIX
        });
    }
    // Several pairs of networks in the one Child SA that it has; a group of its own for new keys.
    for platforms in [[SS, OI], [OI, SS], [OI, OI]] {
        let networks = ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""];
        pairs.push(Pair { platforms, networks, tunnel: "pfs = \"ecp-521\"", ..ORCHARD });
    }
    pairs.into_iter().map(|pair| Pair { tunnel: Box::leak(format!("{SHORT}{}", pair.tunnel).into_boxed_str()), ..pair }).collect()
}

fn varied() -> Vec<Pair> {
    let mut pairs = Vec::new();
    for platforms in MIXED {
        pairs.extend(OFFERS.iter().map(|offer| pair(platforms, offer)));
        pairs.extend(VARIETIES.iter().map(|(tunnel, sites, networks)| Pair {
            platforms,
            tunnel,
            sites: *sites,
            networks: *networks,
            ..ORCHARD
        }));
        pairs.push(Pair { platforms, ..SIX });
    }
    for platform in [SS, LSW] {
        pairs.push(pair([platform, platform], "opened-by = \"either\""));
        pairs.push(Pair { platforms: [platform, platform], tunnel: "opens = \"on-traffic\"", ..SIX });
    }
    // A group of its own for every rekey of ESP, between two that can.
    pairs.push(pair([SS, SS], "pfs = \"ecp-521\""));
    pairs.extend(with_openiked());
    pairs
}

/// A gateway with two tunnels, over three daemons.
const STAR: &str = r#"unified-span = 1
[site.packhouse]
platform = "strongswan"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
shares-internet = true
[site.coldstore]
platform = "libreswan"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20" }
shares-internet = true
[site.press]
platform = "openiked"
gateway = { address = "203.0.113.90", outside = "eth0", inside = "eth1" }
networks = { hall = "10.90.0.0/24" }
[tunnel.harvest]
between = ["packhouse", "coldstore"]
secret = { file = "k" }
[tunnel.juice]
between = ["press", "packhouse"]
secret = { file = "k2" }
esp-lifetime = "10m"
ike-lifetime = "30m"
"#;

/// The failed rows of a proof, each with the check, the sites at which it failed, and why.
fn failures(proof: &Value) -> Vec<(String, Vec<(String, String)>)> {
    let mut found = Vec::new();
    for tunnel in proof["tunnels"].as_array().expect("tunnels") {
        for row in tunnel["checks"].as_array().expect("checks") {
            let ends = row["ends"].as_array().expect("ends").iter().filter(|end| end["result"] == "fail");
            let ends: Vec<_> =
                ends.map(|end| (end["site"].as_str().unwrap_or("").to_owned(), end["detail"].as_str().unwrap_or("").to_owned())).collect();
            if !ends.is_empty() {
                found.push((row["check"].as_str().expect("a word").to_owned(), ends));
            }
        }
    }
    found
}

#[test]
fn varied_descriptions_come_up_at_the_first_try_with_every_check_green() {
    if !*READY {
        return;
    }
    let _turn = TURN.lock().unwrap_or_else(PoisonError::into_inner);
    let folder = folder();
    let mut texts: Vec<String> = varied().iter().map(Pair::text).collect();
    texts.push(STAR.to_owned());
    assert!(texts.len() >= 40);
    let names: Vec<String> = (0..texts.len()).map(|i| format!("{i:02}.span.toml")).collect();
    for (name, text) in names.iter().zip(&texts) {
        write(&folder.path().join(name), text, 0o644);
    }
    let wrong = prove_all(folder.path(), &names);
    // A failure is repeated with fresh daemons before it counts, and said either way.
    let again: Vec<String> = wrong.iter().map(|(name, _)| name.clone()).collect();
    for (_, why) in &wrong {
        eprintln!("FAILED AT FIRST, repeated:\n{why}");
    }
    let still = if again.is_empty() { Vec::new() } else { prove_all(folder.path(), &again) };
    let words: Vec<_> = still.iter().map(|(_, why)| why.as_str()).collect();
    assert!(still.is_empty(), "{} of {} failed twice:\n{}", still.len(), texts.len(), words.join("\n"));
    // More than one that needs a second try is no accident.
    assert!(wrong.len() <= 1, "{} of {} needed a second try: {again:?}", wrong.len(), texts.len());
    no_secret_in(&folder.path().join("logs"));
}

/// Proves descriptions; returns those that failed, with everything that was found.
fn prove_all(folder: &Path, names: &[String]) -> Vec<(String, String)> {
    let mut args = vec!["prove", "--format", "json", "--keep", "logs"];
    args.extend(names.iter().map(String::as_str));
    let run = uspan(folder, &args);
    let json = run.json();
    let mut wrong = Vec::new();
    for (proof, name) in json["proofs"].as_array().expect("proofs").iter().zip(names) {
        let tunnels = proof["tunnels"].as_array().expect("tunnels");
        let whole = tunnels.iter().all(|tunnel| tunnel["checks"].as_array().is_some_and(|checks| checks.len() >= 14));
        let failed = failures(proof);
        if !failed.is_empty() || proof["lab_failures"] != serde_json::json!([]) || !whole {
            let text = fs::read_to_string(folder.join(name)).unwrap_or_default();
            wrong.push((name.clone(), format!("{text}\n{failed:#?}\n{}\n{tunnels:#?}", proof["lab_failures"])));
        }
    }
    assert_eq!((run.code == 0, &json["fine"]), (wrong.is_empty(), &Value::Bool(wrong.is_empty())));
    wrong
}

/// Logs and captures hold no secret, neither as text nor in hexadecimal.
fn no_secret_in(folder: &Path) {
    let hex: String = SECRET.bytes().map(|byte| format!("{byte:02x}")).collect();
    let files = common::files(folder);
    assert!(files.len() >= 3, "{files:?}");
    for file in files {
        let text = String::from_utf8_lossy(&fs::read(&file).expect("read")).to_lowercase();
        assert!(!text.contains(&SECRET.to_lowercase()) && !text.contains(&hex), "{}", file.display());
    }
}

/// A pair that is built and then spoilt: what is done to which file, and the check that must name it.
struct Sabotage {
    name: &'static str,
    pair: Pair,
    /// File below the output, what is replaced, by what.
    edits: &'static [(&'static str, &'static str, &'static str)],
    script: Option<(&'static str, &'static str)>,
    check: &'static str,
    sites: &'static [&'static str],
    says: &'static str,
}

const CBC: &str = "ike = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\", group = \"ecp-384\" }]\nesp = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\" }]";
const COLD: &str = "coldstore/etc/ipsec.d/harvest.conf";
const PACK: &str = "packhouse/etc/swanctl/conf.d/harvest.conf";

#[rustfmt::skip]
fn sabotages() -> Vec<Sabotage> {
    let joined = Pair { sites: ["shares-internet = true", "shares-internet = true\nfilter = \"joined\""], ..ORCHARD };
    let plain = |tunnel| pair([SS, LSW], tunnel);
    let sabotage = |name, edits, check, sites, says| Sabotage { name, pair: plain(CBC), edits, script: None, check, sites, says };
    vec![
        sabotage("secret", &[("coldstore/etc/ipsec.d/harvest.secrets", "PSK 0x4b", "PSK 0x4c")], "opens", &["packhouse"], "no IKE SA"),
        sabotage("group", &[(COLD, "ike=aes256-sha2_512;dh20", "ike=aes256-sha2_512;dh19")], "opens", &["packhouse"], "no IKE SA"),
        sabotage("integrity of ESP", &[(COLD, "esp=aes256-sha2_512;dh20", "esp=aes256-sha2_256;dh20")], "opens", &["packhouse"], "IKE SA, but no ESP SA"),
        sabotage("integrity of IKE", &[(PACK, "aes256-sha512-prfsha512", "aes256-sha384-prfsha384")], "opens", &["packhouse"], "no IKE SA"),
        sabotage("identity", &[(COLD, "rightid=198.51.100.20", "rightid=@somebody.example.net"),
            ("coldstore/etc/ipsec.d/harvest.secrets", "198.51.100.20", "@somebody.example.net")], "opens", &["packhouse"], "no IKE SA"),
        sabotage("selector", &[(COLD, "rightsubnet=10.41.0.0/22", "rightsubnet=10.42.0.0/22")], "opens", &["packhouse"], "IKE SA, but no ESP SA"),
        sabotage("crossed selectors", &[(PACK, "local_ts = 10.41.0.0/22\n        remote_ts = 10.73.16.0/20", "local_ts = 10.73.16.0/20\n        remote_ts = 10.41.0.0/22")],
            "opens", &["packhouse"], "IKE SA, but no ESP SA"),
        sabotage("peer's address", &[(PACK, "remote_addrs = 203.0.113.77", "remote_addrs = 203.0.113.78")], "opens", &["packhouse"], "no IKE SA"),
        sabotage("exemption", &[("packhouse/etc/nftables.d/uspan-harvest.nft", "counter snat ip prefix to 10.41.0.0/22", "counter")],
            "ping", &["packhouse"], "no answer"),
        Sabotage { name: "inbound filter", pair: joined.clone(), script: None, check: "ping", sites: &["packhouse"], says: "no answer",
            edits: &[("coldstore/etc/nftables.d/uspan-harvest.chains", "ip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 meta ipsec exists counter accept\n\tip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 counter drop", "")] },
        Sabotage { name: "IKE at the filter", pair: joined, script: None, check: "opens", sites: &["packhouse"], says: "no IKE SA",
            edits: &[("coldstore/etc/nftables.d/uspan-harvest.chains", "udp dport { 500, 4500 } counter accept", "udp dport { 501, 4501 } counter accept")] },
        Sabotage { name: "route", pair: plain(CBC), check: "ping", sites: &["packhouse", "coldstore"], says: "", edits: &[],
            script: Some(("packhouse", "ip route add 203.0.113.77 via 198.51.100.21; ip route del default; ip rule add pref 100 to 10.73.16.0/20 unreachable")) },
        sabotage("PFS group", &[(PACK, "esp_proposals = aes256-sha512-ecp384", "esp_proposals = aes256-sha512-ecp256")], "rekey-esp", &["packhouse", "coldstore"], "no new SA"),
        Sabotage { name: "wider selectors", pair: Pair { networks: ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\""], tunnel: "carries = [[\"office\", \"racks\"]]", ..ORCHARD },
            script: None, check: "outsiders", sites: &["packhouse", "coldstore"], says: "arrives",
            edits: &[(COLD, "rightsubnet=10.41.0.0/22", "rightsubnet=10.41.0.0/20"), (PACK, "local_ts = 10.41.0.0/22", "local_ts = 10.41.0.0/20"),
                ("packhouse/etc/nftables.d/uspan-harvest.nft", "10.41.0.0/22", "10.41.0.0/20"), ("coldstore/etc/nftables.d/uspan-harvest.nft", "10.41.0.0/22", "10.41.0.0/20")] },
    ]
}

/// Lays out a sabotaged pair; returns the arguments that prove it.
fn spoil(folder: &Path, sabotage: &Sabotage) -> Vec<String> {
    write(&folder.join("x.span.toml"), sabotage.pair.text(), 0o644);
    let built = uspan(folder, &["build", "x.span.toml", "-o", "out"]);
    assert_eq!(built.code, 0, "{}: {}", sabotage.name, built.all());
    for (file, old, new) in sabotage.edits {
        let path: PathBuf = folder.join("out").join(file);
        let text = fs::read_to_string(&path).expect("read");
        assert!(text.contains(old), "{}: {file} has no `{old}`:\n{text}", sabotage.name);
        fs::write(&path, text.replace(old, new)).expect("written");
    }
    let mut args: Vec<String> = ["prove", "x.span.toml", "--built", "out", "--format", "json"].map(str::to_owned).to_vec();
    if let Some((site, script)) = sabotage.script {
        write(&folder.join("script.sh"), script, 0o644);
        args.extend(["--gateway-script".to_owned(), format!("{site}=script.sh")]);
    }
    args
}

#[test]
fn a_sabotaged_pair_fails_at_the_right_check() {
    if !*READY {
        return;
    }
    let _turn = TURN.lock().unwrap_or_else(PoisonError::into_inner);
    let mut wrong = Vec::new();
    for sabotage in sabotages() {
        let folder = folder();
        let args = spoil(folder.path(), &sabotage);
        let run = uspan(folder.path(), &args.iter().map(String::as_str).collect::<Vec<_>>());
        let json = run.json();
        let failed = failures(&json["proofs"][0]);
        let fits = failed.first().is_some_and(|(check, ends)| {
            *check == sabotage.check
                && ends.iter().map(|(site, _)| site.as_str()).collect::<Vec<_>>() == sabotage.sites
                && ends.iter().all(|(_, why)| why.contains(sabotage.says))
        });
        let clear = failed
            .iter()
            .all(|(check, _)| check == sabotage.check || ["tcp", "full-size", "counters", "encrypted"].contains(&check.as_str()));
        if run.code != 1 || !fits || !clear {
            wrong.push(format!("{}: exit {}, {failed:#?}\n{:#}", sabotage.name, run.code, json["proofs"][0]["lab_failures"]));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Everything that a run could leave: namespaces, processes, mounts, files.
fn traces() -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    let read = |path: &str| fs::read_to_string(path).unwrap_or_default();
    found.extend(read("/proc/self/mounts").lines().map(|line| format!("mount {line}")));
    for entry in fs::read_dir("/proc").expect("processes").flatten() {
        let pid = entry.file_name().to_string_lossy().into_owned();
        let words = read(&format!("/proc/{pid}/cmdline")).replace('\0', " ");
        if ["charon", "pluto", "prove-inside", "uspan-lab"].iter().any(|word| words.contains(word)) {
            found.insert(format!("process {words}"));
        }
        if let Ok(namespace) = fs::read_link(format!("/proc/{pid}/ns/net")) {
            found.insert(format!("namespace {}", namespace.display()));
        }
    }
    for folder in ["/var/tmp", "/tmp", "/run", "/run/netns", "/root/.uml", "/dev/shm"] {
        let entries = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
        found.extend(entries.filter(|path| !path.to_string_lossy().contains("uspan-test-")).map(|path| format!("file {}", path.display())));
    }
    let interfaces = Command::new("ip").args(["-o", "link"]).output().expect("ip runs").stdout;
    found.insert(format!("interfaces {}", String::from_utf8_lossy(&interfaces).lines().count()));
    found
}

#[test]
fn nothing_is_left_after_twenty_runs_five_of_them_interrupted() {
    if !*READY {
        return;
    }
    let _turn = TURN.lock().unwrap_or_else(PoisonError::into_inner);
    let folder = folder();
    let args = spoil(folder.path(), &sabotages()[0]);
    let before = traces();
    for run in 0..20u64 {
        let mut command = Command::new(env!("CARGO_BIN_EXE_uspan"));
        let mut child =
            command.args(&args).current_dir(folder.path()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().expect("it runs");
        // One in four is interrupted, at different moments; the last one without a chance to tidy up.
        if run % 4 == 3 {
            std::thread::sleep(Duration::from_millis(200 + 350 * (run / 4)));
            let signal = if run == 19 { Signal::KILL } else { Signal::INT };
            let pid = Pid::from_raw(i32::try_from(child.id()).expect("a process")).expect("a process");
            kill_process(pid, signal).expect("it still runs");
        }
        let code = child.wait().expect("it ends").code();
        let expected = match run {
            19 => None,
            run if run % 4 == 3 => Some(3),
            _ => Some(1),
        };
        assert_eq!(code, expected, "run {run}");
    }
    // After a kill the keeper finds out by itself, and takes a moment to tidy up.
    let left = |_: u32| {
        std::thread::sleep(Duration::from_millis(250));
        let left: Vec<_> = traces().difference(&before).cloned().collect();
        left
    };
    let last = (0..80).map(left).find(Vec::is_empty);
    assert!(last.is_some(), "{:#?}", left(0));
}

/// On a machine whose kernel has ESP the same happens on that kernel. Where this one has none, the guest kernel plays
/// such a machine.
#[test]
fn a_machine_with_esp_proves_on_its_own_kernel() {
    if !*READY {
        return;
    }
    let Ok(Ground::Guest(kernel)) = uspan_lab::ground(&uspan_lab::default_cache()) else {
        // The other tests have just done that.
        return;
    };
    let _turn = TURN.lock().unwrap_or_else(PoisonError::into_inner);
    // Not below /var/tmp, which the machine in the machine covers.
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).expect("a folder");
    write(&folder.path().join("k"), format!("{SECRET}\n"), 0o600);
    write(&folder.path().join("x.span.toml"), ORCHARD.text(), 0o644);
    let script = format!(
        "#!/bin/sh\nmount -t proc proc /proc; mount -t sysfs sys /sys; mount -t tmpfs t /run\n\
         export PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/run\nmkdir /run/x; cp {}/k {0}/x.span.toml {} /run/x; cd /run/x\n\
         mount -t tmpfs t /tmp; mount -t tmpfs t /var/tmp\n./uspan prove x.span.toml\necho \"exit $?\"\n\
         echo \"left: $(ls /var/tmp /tmp)\"\necho o > /proc/sysrq-trigger\nsleep 9\n",
        folder.path().display(),
        env!("CARGO_BIN_EXE_uspan"),
    );
    let init = folder.path().join("init");
    write(&init, script, 0o755);
    let machine = Command::new(kernel)
        .args(["mem=512M", "time-travel", "rootfstype=hostfs", "rootflags=/", "ro", "quiet", "panic=-1"])
        .args(["con=null", "con0=null,fd:1", "con1=null", "ssl=null"])
        .arg(format!("uml_dir={}", folder.path().display()))
        .arg(format!("init={}", init.display()))
        .env("TMPDIR", folder.path())
        .stdin(Stdio::null())
        .output()
        .expect("it boots");
    let said = String::from_utf8_lossy(&machine.stdout);
    for expected in ["on this machine's own kernel", "Proven", "exit 0", "left: /tmp:"] {
        assert!(said.contains(expected), "`{expected}` is not in:\n{said}");
    }
    assert!(!said.contains("uspan-prove-"), "{said}");
}
