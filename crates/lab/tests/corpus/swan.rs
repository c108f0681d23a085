//! The suite of strongSwan: `testing/tests`, a folder a scenario, with the files of each host.

use std::fs;
use std::path::{Path, PathBuf};

use uspan_core::{Tree, TreeFile};

use super::authority::Authority;
use super::scenario::{Outcome, Scenario, protection, take};

/// Its main files, and the platforms in the program's words that they are of.
const MAIN: [(&str, &str); 2] = [("etc/swanctl/swanctl.conf", "strongswan"), ("etc/ipsec.conf", "strongswan-starter")];

/// Words of what is not a tunnel between two gateways.
const BESIDE: [&str; 11] = ["dnssec", "vips", "eap", "xauth", "pools", "mediat", "%dynamic", "radius", "attest", "tnc", "sourceip"];

/// What stands for the addresses of its hosts (`testing/testing.conf`), the longer names first.
const ADDRESSES: [(&str, &str); 16] = [
    ("PH_IP_MOON1", "10.1.0.1"),
    ("PH_IP_MOON", "192.168.0.1"),
    ("PH_IP6_MOON1", "fec1::1"),
    ("PH_IP6_MOON", "fec0::1"),
    ("PH_IP_SUN1", "10.2.0.1"),
    ("PH_IP_SUN", "192.168.0.2"),
    ("PH_IP6_SUN1", "fec2::1"),
    ("PH_IP6_SUN", "fec0::2"),
    ("PH_IP_ALICE1", "192.168.0.50"),
    ("PH_IP_ALICE", "10.1.0.10"),
    ("PH_IP6_ALICE1", "fec0::5"),
    ("PH_IP6_ALICE", "fec1::10"),
    ("PH_IP_VENUS", "10.1.0.20"),
    ("PH_IP6_VENUS", "fec1::20"),
    ("PH_IP_BOB", "10.2.0.10"),
    ("PH_IP6_BOB", "fec2::10"),
];

pub fn scenarios(source: &Path) -> Vec<Scenario> {
    let suite = source.join("testing/tests");
    let hosts = source.join("testing/hosts");
    let folders = |path: &Path| {
        let mut all: Vec<_> =
            fs::read_dir(path).into_iter().flatten().flatten().map(|entry| entry.path()).filter(|path| path.is_dir()).collect();
        all.sort();
        all
    };
    let authority = Authority::new();
    // Some take their connections from a database, and some from another program.
    let of_files = |path: &PathBuf| !path.ends_with("sql") && !path.ends_with("tkm");
    let each = folders(&suite).into_iter().filter(of_files).flat_map(|category| folders(&category));
    each.filter_map(|folder| scenario(&hosts, &folder, &authority)).collect()
}

fn read(path: &Path) -> String {
    fs::read_to_string(path).unwrap_or_default()
}

/// The value of a variable of a shell script.
fn variable(text: &str, name: &str) -> String {
    let line = text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix('=')).unwrap_or_default();
    line.trim_matches('"').to_owned()
}

fn scenario(hosts: &Path, folder: &Path, authority: &Authority) -> Option<Scenario> {
    let test = read(&folder.join("test.conf"));
    let taking_part = variable(&test, "IPSECHOSTS");
    let names: Vec<String> = taking_part.split_whitespace().map(str::to_owned).collect();
    let [one, other] = names.as_slice() else { return None };
    let both = [one.clone(), other.clone()];
    // A tunnel between two gateways, of hosts that stay where they are.
    if !both.iter().all(|host| ["moon", "sun", "alice", "bob", "venus"].contains(&host.as_str())) {
        return None;
    }
    let name = folder.iter().rev().take(2).map(|part| part.to_string_lossy().into_owned()).collect::<Vec<_>>();
    let mut trees = [Tree::default(), Tree::default()];
    for (end, host) in both.iter().enumerate() {
        let own = folder.join("hosts").join(host).join("etc");
        if !own.join("swanctl/swanctl.conf").is_file() && !own.join("ipsec.conf").is_file() {
            return None;
        }
        take(&mut trees[end], &own, "etc");
        trees[end].add("etc/network/interfaces", TreeFile::public(read(&hosts.join(host).join("etc/network/interfaces"))));
        for file in trees[end].files.values_mut() {
            for (name, address) in ADDRESSES {
                file.text = file.text.replace(name, address);
            }
        }
        authority.supply(&mut trees[end]);
    }
    let main = |tree: &Tree| MAIN.iter().find_map(|(path, _)| tree.files.get(*path)).map_or_else(String::new, |file| file.text.clone());
    let text = trees.iter().map(main).collect::<String>();
    if BESIDE.iter().any(|word| text.contains(word)) || folder.to_string_lossy().contains("dnssec") {
        return None;
    }
    let commands = [read(&folder.join("pretest.dat")), read(&folder.join("evaltest.dat"))].concat();
    let up = |line: &str| line.split_once("--initiate --child ").or(line.split_once("ipsec up ")).map(|(_, rest)| rest.to_owned());
    let opened = commands.lines().find_map(|line| up(line)?.split_whitespace().next().map(str::to_owned));
    let (outcome, protected) = told(&read(&folder.join("evaltest.dat")));
    Some(Scenario {
        name: format!("{}/{}", name[1], name[0]),
        platforms: trees
            .each_ref()
            .map(|tree| MAIN.iter().find(|(path, _)| tree.files.contains_key(*path)).map_or("strongswan", |(_, word)| word)),
        hosts: both,
        whole: trees.clone(),
        trees,
        opened,
        outcome,
        protection: protected,
    })
}

/// What the suite looks for: `HOST::COMMAND::TEXT::YES`.
fn told(checks: &str) -> (Outcome, Option<String>) {
    let (mut up, mut down, mut protected) = (false, false, None);
    for line in checks.lines() {
        let parts: Vec<_> = line.split("::").collect();
        let [_, command, text, wanted] = parts.as_slice() else { continue };
        let yes = wanted.trim() == "YES";
        if command.contains("--list-sas") || command.contains("ipsec status") {
            let installed = text.contains("INSTALLED");
            up |= installed && yes;
            down |= !yes && (installed || text.contains("ESTABLISHED") || *text == ".*" || text.contains("version"));
            if (installed || command.contains("statusall")) && yes && protected.is_none() {
                protected = protection_of(text);
            }
        }
    }
    let outcome = match (up, down) {
        (true, _) => Outcome::Up,
        (false, true) => Outcome::Down,
        (false, false) => Outcome::Untold,
    };
    (outcome, protected)
}

fn protection_of(text: &str) -> Option<String> {
    // The older form shows it as `AES_CBC_128/HMAC_SHA1_96`.
    if let Some((before, hash)) = text.split_once("/HMAC_").filter(|_| !text.contains("INSTALLED")) {
        let cipher = before.rsplit(['*', ' ', '.']).next()?;
        let (name, bits) = cipher.rsplit_once('_').filter(|(_, bits)| bits.parse::<u16>().is_ok()).unwrap_or((cipher, ""));
        return protection((name, bits), hash.split(['.', ' ', ':']).next().unwrap_or_default());
    }
    let child = &text[text.find("INSTALLED")?..];
    if !child.contains("ESP") {
        return None;
    }
    let value = |key: &str| {
        let rest = &child[child.find(key)? + key.len()..];
        Some(rest.split([' ', '.', '\\', ']']).next().unwrap_or_default())
    };
    protection((value("encr-alg=")?, value("encr-keysize=").unwrap_or_default()), value("integ-alg=").unwrap_or("NONE"))
}
