//! The suite of Libreswan: `testing/pluto`, a folder a scenario.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use uspan_core::{Tree, TreeFile};

use super::authority::{Database, Issued};
use super::scenario::{Outcome, Scenario, protection, take};

/// Its two gateways, with their addresses.
const HOSTS: [(&str, &str); 2] = [
    (
        "west",
        "auto eth0\niface eth0 inet static\n\taddress 192.0.1.254/24\nauto eth1\niface eth1 inet static\n\taddress 192.1.2.45/24\n\
         iface eth0 inet6 static\n\taddress 2001:db8:0:1::254/64\niface eth1 inet6 static\n\taddress 2001:db8:1:2::45/64\n",
    ),
    (
        "east",
        "auto eth0\niface eth0 inet static\n\taddress 192.0.2.254/24\nauto eth1\niface eth1 inet static\n\taddress 192.1.2.23/24\n\
         iface eth0 inet6 static\n\taddress 2001:db8:0:2::254/64\niface eth1 inet6 static\n\taddress 2001:db8:1:2::23/64\n",
    ),
];

/// Words of what is not a tunnel between two gateways, of faults that the suite makes, and of what stands in no file.
const BESIDE: [&str; 31] = [
    "--fips",
    "--async",
    "--oppo",
    "ipsec.secrets",
    "modecfg",
    "xauth",
    "addresspool",
    "authby=null",
    "auth=null",
    "%opportunistic",
    "sec-label",
    "sec_label",
    "policy-label",
    "eaponly",
    "eap=",
    "whack --name",
    "whack --host",
    "labeled",
    "kill",
    "iptables -A OUTPUT",
    "iptables -I OUTPUT",
    "cp ",
    "sed ",
    "ipsec whack --listen",
    "ipsec auto --replace",
    "--config ",
    "strongswan",
    "%group",
    "ipsec algparse",
    "redirect",
    "mobike=yes",
];

/// Faults of the suite that change nothing: they make it quicker or its output the same.
const HARMLESS: [&str; 6] =
    ["suppress_retransmits", "suppress-retransmits", "revival", "timeout_on_retransmit", "none", "force_v2_auth_method"];

pub fn scenarios(source: &Path) -> Vec<Scenario> {
    let suite = source.join("testing/pluto");
    let listed = fs::read_to_string(suite.join("TESTLIST")).unwrap_or_default();
    let good = listed.lines().filter_map(|line| match line.split_whitespace().collect::<Vec<_>>().as_slice() {
        ["kvmplutotest", name, "good", ..] => Some((*name).to_owned()),
        _ => None,
    });
    let base = source.join("testing/baseconfigs/all/etc");
    let issued = Issued::new();
    good.filter_map(|name| scenario(&base, &suite.join(&name), &name, &issued)).collect()
}

fn read(path: &Path) -> String {
    fs::read_to_string(path).unwrap_or_default()
}

/// The database of a host as the commands fill it; nothing where they do something else with it.
fn database(issued: &Issued, folder: &Path, host: &str) -> Option<Database> {
    let mut scripts: Vec<_> = fs::read_dir(folder).ok()?.flatten().map(|entry| entry.path()).collect();
    let of_host = |path: &Path| {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        name.ends_with(".sh") && name.contains(host)
    };
    scripts.retain(|path| of_host(path));
    scripts.sort();
    let commands: String = scripts.iter().map(|path| read(path)).collect();
    let mut found = Database::default();
    for line in commands.lines().map(str::trim).filter(|line| !line.starts_with('#')) {
        // What the daemon has taken in counts.
        if line.contains("ipsec start") {
            break;
        }
        let line = line.replace("`hostname`", host).replace("$(hostname)", host);
        let words: Vec<_> = line.split_whitespace().collect();
        match words.as_slice() {
            [prepare, options @ ..] if prepare.ends_with("swan-prep") => {
                match options.iter().filter(|option| !["-4", "-6", "-46", "--46"].contains(option)).copied().collect::<Vec<_>>().as_slice()
                {
                    ["--nokeys" | "--nokey"] => {}
                    ["--x509"] | ["--x509", "--nsspw"] | ["--x509", "--x509name", _] => {
                        let own = options.iter().skip_while(|option| **option != "--x509name").nth(1).copied().unwrap_or(host);
                        found.import(issued, &format!("real/mainca/{own}.all.p12"))?;
                        for other in ["west", "east", "north"].iter().filter(|other| **other != host) {
                            found.import(issued, &format!("real/mainca/{other}.end.cert"))?;
                        }
                    }
                    _ => return None,
                }
            }
            [import, files @ ..] if import.ends_with("import.sh") => {
                for file in files {
                    found.import(issued, file)?;
                }
            }
            [.., "-D", "-n", nickname] if line.contains("certutil") => found.remove(nickname),
            ["ipsec", "pk12util", .., "-i", file] if file.starts_with("/testing/x509/pkcs12/mainca/") => {
                let name = file.rsplit('/').next().unwrap_or_default().trim_end_matches(".p12");
                found.import(issued, &format!("real/mainca/{name}.all.p12"))?;
            }
            ["ipsec", "certutil", "-L", ..] => {}
            [.., "-A", "-n", nickname, "-t", "P,,", "-d", _, "-i", file] if line.contains("certutil") => {
                let name = file.rsplit('/').next().unwrap_or_default().trim_end_matches(".crt");
                if name != *nickname {
                    return None;
                }
                found.import(issued, &format!("real/mainca/{name}.end.cert"))?;
            }
            _ if ["certutil", "pk12util", "crlutil", "x509/", "modutil"].iter().any(|word| line.contains(word)) => return None,
            _ => {}
        }
    }
    Some(found)
}

fn scenario(base: &Path, folder: &Path, name: &str, issued: &Issued) -> Option<Scenario> {
    if ["road", "north", "rise", "set"].iter().any(|host| folder.join(format!("{host}.console.txt")).is_file()) {
        return None;
    }
    let consoles = HOSTS.map(|(host, _)| read(&folder.join(format!("{host}.console.txt"))));
    let mut scripts: Vec<_> = fs::read_dir(folder).ok()?.flatten().map(|entry| entry.path()).collect();
    scripts.retain(|path| path.extension().is_some_and(|end| end == "sh") && !path.ends_with("final.sh"));
    scripts.sort();
    let scripts: String = scripts.iter().map(|path| read(path)).collect();
    let mut trees = [Tree::default(), Tree::default()];
    let mut whole = trees.clone();
    for (end, (host, interfaces)) in HOSTS.iter().enumerate() {
        let conf = [format!("{host}.conf"), format!("{host}.ipsec.conf"), "ipsec.conf".to_owned()];
        let conf = conf.iter().map(|file| read(&folder.join(file))).find(|text| !text.is_empty())?;
        let secrets = [format!("{host}.secrets"), format!("{host}.ipsec.secrets"), "ipsec.secrets".to_owned()];
        let secrets = secrets.iter().map(|file| read(&folder.join(file))).find(|text| !text.is_empty());
        let tree = &mut trees[end];
        let first = told(&consoles[0]).0.filter(|_| end == 0);
        tree.add("etc/ipsec.conf", TreeFile::public(loaded(&conf, &consoles[end], first.as_deref())));
        tree.add("etc/ipsec.secrets", TreeFile::public(secrets.unwrap_or_default()));
        tree.add("etc/network/interfaces", TreeFile::public((*interfaces).to_owned()));
        take(tree, &base.join("ipsec.d"), "testing/baseconfigs/all/etc/ipsec.d");
        if let Some(found) = database(issued, folder, host) {
            found.list(tree);
        }
        whole[end] = tree.clone();
        whole[end].add("etc/ipsec.conf", TreeFile::public(loaded(&conf, &consoles[end], None)));
    }
    let all = [scripts.as_str(), &trees[0].files["etc/ipsec.conf"].text, &trees[1].files["etc/ipsec.conf"].text].concat();
    if BESIDE.iter().any(|word| all.contains(word))
        || !consoles.iter().all(|console| console.contains("ipsec start") || console.contains("pluto"))
    {
        return None;
    }
    // The release that files are read for has not all keywords of the suite's.
    if trees.iter().any(|tree| !is_taken(tree)) {
        return None;
    }
    let faults = scripts.split("--impair").skip(1).filter_map(|rest| rest.split_whitespace().next());
    if faults.into_iter().any(|fault| !HARMLESS.iter().any(|harmless| fault.trim_start_matches('=').starts_with(harmless))) {
        return None;
    }
    let (opened, outcome, protected) = told(&consoles[0]);
    Some(Scenario {
        name: name.to_owned(),
        platforms: ["libreswan"; 2],
        hosts: HOSTS.map(|(host, _)| host.to_owned()),
        trees,
        whole,
        opened,
        outcome,
        protection: protected,
    })
}

/// What is opened first, and what comes of it.
fn told(console: &str) -> (Option<String>, Outcome, Option<String>) {
    let up = |line: &str| {
        if line.trim_start().starts_with('#') {
            return None;
        }
        let words: Vec<_> = line.split_whitespace().collect();
        if let Some(at) = words.iter().position(|word| word.ends_with("libreswan-up-down.sh")) {
            return words.get(at + 1).map(|name| (*name).to_owned());
        }
        let at = words.windows(2).position(|pair| pair == ["auto", "--up"] || pair == ["ipsec", "up"])?;
        words[at + 2..].iter().find(|word| !word.starts_with('-')).map(|name| name.trim_matches(['"', '\'']).to_owned())
    };
    let mut lines = console.lines();
    let opened = lines.by_ref().find_map(up);
    let answer: Vec<&str> = match &opened {
        Some(_) => lines.take_while(|line| !(line.starts_with("west #") || line.starts_with("east #"))).collect(),
        None => console.lines().collect(),
    };
    let is_up = |line: &&&str| {
        ["established Child SA", "IPsec SA established", "established IPsec SA", "STATE_QUICK_I2", "STATE_V2_ESTABLISHED_CHILD_SA"]
            .iter()
            .any(|said| line.contains(said))
    };
    let found = answer.iter().find(is_up);
    let outcome = match (found, &opened) {
        (Some(_), _) => Outcome::Up,
        (None, Some(_)) => Outcome::Down,
        (None, None) => Outcome::Untold,
    };
    let protected = found.and_then(|line| {
        let said = line.split_once("xfrm=")?.1.split(' ').next()?;
        let (cipher, integrity) = said.split_once('-')?;
        let (name, bits) = match cipher.rsplit_once('_') {
            Some((name, bits)) if bits.bytes().all(|byte| byte.is_ascii_digit()) && bits.len() == 3 => (name, bits),
            _ => (cipher, ""),
        };
        protection((name, bits), integrity)
    });
    (opened, outcome, protected)
}

/// The file as the daemon has it once the suite's commands have run: connections that are added count, others wait for nobody; at the end
/// that opens, only the one that it opens first. What the next release spells in another way is spelled as this one has it.
fn loaded(conf: &str, console: &str, opened: Option<&str>) -> String {
    let mut added: BTreeSet<&str> = console.lines().flat_map(added).collect();
    if let Some(opened) = opened.filter(|name| added.contains(name) && conf.lines().any(|line| line.strip_prefix("conn ") == Some(name))) {
        added = BTreeSet::from([opened]);
    }
    let is_only = opened.is_some() && added.len() == 1;
    let mut text = String::new();
    for line in conf.lines() {
        let line = match line.trim_start().strip_prefix("keyexchange=") {
            Some("ikev1") => "\tikev2=no",
            Some("ikev2") => "\tikev2=insist",
            // What a section says of that is put at its head.
            _ if line.trim_start().starts_with("auto=") => continue,
            _ => line,
        };
        text.push_str(line);
        text.push('\n');
        let Some(name) = line.strip_prefix("conn ").map(|rest| rest.split('#').next().unwrap_or_default().trim()) else { continue };
        let auto = auto_of(conf, name, 0).filter(|auto| *auto != "ignore");
        match (added.contains(name), auto) {
            (true, auto) => text.push_str(&format!("\tauto={}\n", auto.unwrap_or("add"))),
            (false, Some(auto)) if !is_only && name != "%default" => text.push_str(&format!("\tauto={auto}\n")),
            (false, _) if name != "%default" => text.push_str("\tauto=ignore\n"),
            _ => {}
        }
    }
    text
}

/// What a section says of `auto`, itself or by those that it takes over.
fn auto_of<'a>(conf: &'a str, name: &str, depth: usize) -> Option<&'a str> {
    let heading = |line: &&str| line.strip_prefix("conn ").is_some_and(|rest| rest.split('#').next().unwrap_or_default().trim() == name);
    let mut lines = conf.lines().skip_while(|line| !heading(line));
    lines.next()?;
    let own: Vec<&str> = lines.take_while(|line| line.is_empty() || line.starts_with([' ', '\t', '#'])).collect();
    let said = |key: &str| own.iter().filter_map(|line| line.trim_start().strip_prefix(key).map(str::trim)).collect::<Vec<_>>();
    let auto = said("auto=").first().copied();
    auto.or_else(|| if depth > 8 { None } else { said("also=").into_iter().find_map(|base| auto_of(conf, base, depth + 1)) })
}

/// The connections that a command adds.
fn added(line: &str) -> Vec<&str> {
    let words: Vec<_> = line.split_whitespace().collect();
    if let Some(at) = words.iter().position(|word| word.ends_with("libreswan-up-down.sh")) {
        return words.get(at + 1).copied().into_iter().collect();
    }
    let at = match words.iter().position(|word| word.ends_with("ipsec-add.sh")) {
        Some(at) => Some(at + 1),
        None => words.windows(2).position(|pair| pair == ["auto", "--add"] || pair == ["ipsec", "add"]).map(|at| at + 2),
    };
    let names = at.map_or(&[][..], |at| &words[at..]).iter().filter(|word| !word.starts_with('-'));
    names.map(|name| name.trim_matches(['"', '\''])).collect()
}

/// Whether the parser of the release that files are read for takes a file, where its package is here.
fn is_taken(tree: &Tree) -> bool {
    let package = uspan_lab::default_cache().join("libreswan");
    let program = package.join("usr/libexec/ipsec/addconn");
    if !program.is_file() {
        return true;
    }
    let folder = tempfile::tempdir().expect("a folder");
    for (path, file) in &tree.files {
        let path = folder.path().join(path);
        fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        fs::write(path, file.text.replace("/testing/", &format!("{}/testing/", folder.path().display()))).expect("written");
    }
    let ran = std::process::Command::new(program)
        .env("LD_LIBRARY_PATH", package.join("usr/lib"))
        .arg("--config")
        .arg(folder.path().join("etc/ipsec.conf"))
        .arg("--checkconfig")
        .output()
        .expect("addconn runs");
    let said = [ran.stdout, ran.stderr].concat();
    let said = String::from_utf8_lossy(&said);
    !["cannot load config", "invalid value", "syntax error"].iter().any(|text| said.contains(text))
}
