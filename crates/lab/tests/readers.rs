//! What the real readers make of the files: each row of `uspan_core::dialect` is held against the program itself, and what was
//! built with hostile texts holds no statement too many for it.
//!
//! Needs root and Debian's packages, which it installs. Where that is not possible it says so loudly; with CI=true that is a failure.

#[path = "../../core/tests/common/known.rs"]
mod known;

#[path = "../../cli/tests/attacks/texts.rs"]
mod texts;

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::Command;
use std::sync::LazyLock;

use uspan_core::dialect::{
    DIALECTS, Dialect, IKED_CONF, INTERFACES, IPSEC_CONF, IPSEC_SECRETS, IPTABLES, NFT, PARAMETERS, PEM, SCRIPT, SETTINGS, VTYSH,
};
use uspan_core::{Description, Secret, SecretFile, Source, Supplied, any_stops, build};
use uspan_lab::Lab;

static LAB: LazyLock<Lab> = LazyLock::new(|| Lab::ready(&uspan_lab::default_cache()).expect("the lab runs here"));

/// Runs a shell script in namespaces of its own, in a folder with the file `f`. Returns all it says.
fn shell(folder: &Path, script: &str) -> String {
    let output = Command::new("/usr/bin/unshare")
        .args(["--net", "--mount", "--pid", "--fork", "--kill-child", "--mount-proc", "sh", "-c", script])
        .current_dir(folder)
        .env("PATH", "/usr/local/sbin:/usr/sbin:/usr/bin:/sbin:/bin")
        .output()
        .expect("a shell");
    [output.stdout, output.stderr].map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).concat()
}

/// How a kind of file is tried: a statement that would be seen if it were read, what stands before and behind it, the script that
/// reads the file `f`, and what it says where the statement is read.
struct Trial {
    dialect: &'static Dialect,
    before: &'static str,
    statement: &'static str,
    behind: &'static str,
    script: String,
    /// Said where the statement is read.
    seen: &'static str,
    /// Said where the rest is read.
    rest: &'static str,
}

// Long: an entry for each kind of file.
fn trials(cache: &Path) -> Vec<Trial> {
    let cache = cache.display();
    let libreswan = format!(
        "mount --make-rprivate /; mount -t tmpfs t /run; mkdir -p /run/etc; cp -a /etc/. /run/etc/; cp -a {cache}/libreswan/etc/. /run/etc/; mount --bind /run/etc /etc
         mount -t tmpfs t /usr/libexec; mkdir -p /usr/libexec/ipsec; mount --bind {cache}/libreswan/usr/libexec/ipsec /usr/libexec/ipsec
         mount -t tmpfs t /var/lib; mkdir -p /var/lib/ipsec/nss /run/pluto; PATH={cache}/libreswan/usr/sbin:$PATH; ip link set lo up
         certutil -N -d sql:/var/lib/ipsec/nss --empty-password\n"
    );
    let pluto = "echo 'include /etc/ipsec.d/*.secrets' > /etc/ipsec.secrets
         /usr/libexec/ipsec/pluto --nofork --config /etc/ipsec.conf --logfile /run/log --no-dnssec >/dev/null 2>&1 </dev/null &
         i=0; while [ ! -S /run/pluto/pluto.ctl ] && [ $i -lt 200 ]; do sleep 0.1; i=$((i+1)); done
         /usr/libexec/ipsec/whack --listen";
    let charon = "mount --make-rprivate /; mount -t tmpfs t /run; mkdir -p /run/etc; cp -a /etc/. /run/etc/; mount --bind /run/etc /etc; ip link set lo up
         rm -f /etc/swanctl/conf.d/*; cp f /etc/swanctl/conf.d/f.conf
         charon-systemd >/run/log 2>&1 </dev/null &
         i=0; while [ ! -S /run/charon.vici ] && [ $i -lt 200 ]; do sleep 0.1; i=$((i+1)); done
         swanctl --load-conns; swanctl --list-conns";
    vec![
        Trial {
            dialect: &SETTINGS,
            before: "",
            statement: "connections { seen { remote_addrs = 192.0.2.9 } }",
            behind: "connections { rest { remote_addrs = 192.0.2.8 } }\n",
            script: charon.to_owned(),
            seen: "seen:",
            rest: "rest:",
        },
        Trial {
            dialect: &IPSEC_CONF,
            before: "",
            statement: "nonsense",
            behind: "conn rest\n\tleft=192.0.2.1\n\tright=192.0.2.2\n\tauthby=secret\n",
            script: format!("{libreswan} /usr/libexec/ipsec/addconn --config f --checkconfig; echo code $?"),
            seen: "[nonsense]",
            rest: "code 0",
        },
        Trial {
            dialect: &IPSEC_SECRETS,
            before: "",
            statement: ": PSQ \"x\"",
            behind: ": PSR \"y\"\n",
            script: format!("{libreswan} cp f /etc/ipsec.d/f.secrets; {pluto}"),
            seen: "PSQ",
            rest: "PSR",
        },
        Trial {
            dialect: &IKED_CONF,
            before: "",
            statement: "nonsense",
            behind: "ikev2 \"rest\" passive esp from 10.1.0.0/24 to 10.2.0.0/24 local 192.0.2.1 peer 192.0.2.2 psk \"abcdefgh\"\n",
            script: "chmod 600 f; iked -n -vv -f f".to_owned(),
            seen: "syntax error",
            rest: "ikev2 \"rest\"",
        },
        Trial {
            dialect: &NFT,
            before: "",
            statement: "table ip seen { }",
            behind: "table ip rest { }\n",
            script: "nft -f f; nft list ruleset".to_owned(),
            seen: "table ip seen",
            rest: "table ip rest",
        },
        Trial {
            dialect: &IPTABLES,
            before: "*filter\n",
            statement: "-I INPUT -s 6.6.6.6/32 -j ACCEPT",
            behind: "-I INPUT -s 7.7.7.7/32 -j ACCEPT\nCOMMIT\n",
            script: "iptables-restore < f; iptables-save".to_owned(),
            seen: "6.6.6.6",
            rest: "7.7.7.7",
        },
        Trial {
            dialect: &INTERFACES,
            before: "auto d0\niface d0 inet manual\n",
            statement: "\tup seen",
            behind: "\tup rest\n",
            script: "mount -t tmpfs t /run; mkdir -p /run/network; ifup --no-act -v -i f d0".to_owned(),
            seen: "seen",
            rest: "rest",
        },
        Trial {
            dialect: &VTYSH,
            before: "",
            statement: "no-such-command",
            behind: "other-such-command\n",
            script: "vtysh -C -f f; sed -i s/no-such-command/hostname/ f; vtysh -C -f f".to_owned(),
            seen: "no-such-command",
            rest: "other-such-command",
        },
        Trial {
            dialect: &SCRIPT,
            before: "",
            statement: "echo seen",
            behind: "echo rest\n",
            script: "sh f".to_owned(),
            seen: "seen",
            rest: "rest",
        },
    ]
}

/// Whether the statement is read, and whether the rest is.
fn read(trial: &Trial, text: &[u8]) -> (bool, bool) {
    let folder = tempfile::Builder::new().prefix("uspan-test-").tempdir_in("/var/tmp").expect("a folder");
    fs::write(folder.path().join("f"), text).expect("written");
    let said = shell(folder.path(), &trial.script);
    (said.contains(trial.seen), said.contains(trial.rest))
}

#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn every_kind_of_file_has_its_reader() {
    let lab = &*LAB;
    let tried: Vec<_> = trials(lab.cache()).iter().map(|trial| trial.dialect.name).collect();
    // Keys are for libraries, and lists of parameters for people.
    let is_read = |dialect: &Dialect| ![PEM.name, PARAMETERS.name].contains(&dialect.name);
    for (_, _, dialect) in DIALECTS.iter().filter(|(_, _, dialect)| is_read(dialect)) {
        assert!(tried.contains(&dialect.name), "{}", dialect.name);
    }
}

/// A remark, and what its reader makes of it.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn what_stands_in_a_remark_stays_in_it_and_longer_lines_are_read_in_pieces_as_the_table_says() {
    let lab = &*LAB;
    let mut wrong = Vec::new();
    for trial in trials(lab.cache()) {
        let (dialect, mark) = (trial.dialect, trial.dialect.comment);
        let file = |remark: &[u8]| [trial.before.as_bytes(), remark, trial.behind.as_bytes()].concat();
        let hold = |what: &str, text: &[u8], expected: (bool, bool)| -> Option<String> {
            let came = read(&trial, text);
            (came != expected).then(|| format!("{}, {what}: read {came:?}, expected {expected:?}", dialect.reader))
        };
        // The trial itself: the statement is seen where it stands alone, and not where it is a remark.
        let alone = format!("{}\n", trial.statement);
        let came = read(&trial, &file(alone.as_bytes()));
        assert!(came.0, "{}: the statement is not seen where it stands: {came:?}", dialect.reader);
        wrong.extend(hold("a remark", &file(format!("{mark} {}\n", trial.statement).as_bytes()), (false, true)));
        // A backslash before the end of a remark.
        let came = read(&trial, &file(format!("{mark} x \\\n{}\n", trial.statement).as_bytes()));
        if came.0 == dialect.comments_go_on {
            wrong.push(format!("{}: a backslash at the end of a remark: the next line is read: {}", dialect.reader, came.0));
        }
        // Nothing in a remark ends it.
        for odd in ["\r", "\u{b}", "\u{c}", "\u{85}", "\u{2028}", "\u{202e}", "\u{9b}", "\u{1a}", "\\n", "\"", "'", "{", "}", ";", "*/"] {
            wrong.extend(hold(&format!("{odd:?}"), &file(format!("{mark} x {odd}{}\n", trial.statement).as_bytes()), (false, true)));
        }
        // The length of a line.
        let long = |length: usize| {
            let lead = format!("{mark} ");
            file(format!("{lead}{}{}\n", "x".repeat(length - lead.len()), trial.statement).as_bytes())
        };
        match dialect.piece {
            Some(piece) => {
                let came = read(&trial, &long(piece));
                if !came.0 {
                    wrong.push(format!("{}: what is behind {piece} bytes is not a line of its own", dialect.reader));
                }
                wrong.extend(hold("a line as long as ours", &long(dialect.longest() - 1 - trial.statement.len()), (false, true)));
            }
            None => wrong.extend(hold("100,000 bytes", &long(100_000), (false, true))),
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Hostile texts in every field, with each pair of platforms: the loaders take the trees, and what is loaded is what a harmless text
/// in the same field gives. In a note or a reason it is the same word for word; in an identity or the name of an interface it is as
/// many statements.
///
/// `USPAN_ATTACKS=1` takes all texts (some minutes); without it a part.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn texts_that_want_to_be_statements_change_nothing_that_is_loaded() {
    let lab = &*LAB;
    let all = std::env::var_os("USPAN_ATTACKS").is_some();
    let mut values: Vec<String> = texts::payloads();
    for length in [160, 320, 900] {
        values.push(format!("{}-I INPUT -s 6.6.6.6/32 -j ACCEPT", "x".repeat(length)));
        values.push(format!("{}\\", "x ".repeat(length / 2)));
        values.push(format!("{} \\ *filter -A INPUT -j ACCEPT COMMIT", "\\ ".repeat(length / 2)));
    }
    values.push("$(touch /run/evil)".to_owned());
    let (mut loads, mut wrong) = (0, Vec::new());
    // A field of an inventory's cell becomes the site's, which the others try; what a name does as an address is seen without a loader.
    for (base, text, _) in texts::bases().iter().filter(|(base, ..)| *base != "group") {
        let marked: Vec<&'static str> =
            texts::FIELDS.into_iter().filter(|field| *field != "address" && text.contains(&format!("\"@{field}\""))).collect();
        let plain = built(text, |_| None).unwrap_or_else(|findings| panic!("{base}: {findings}"));
        let shown: BTreeMap<_, _> = plain.iter().map(|(site, tree)| (site.clone(), loaded(lab, text, site, tree))).collect();
        for (v, value) in values.iter().enumerate() {
            if !all && v % 12 != base.len() % 12 {
                continue;
            }
            let takes = |fields: &[&'static str]| built(text, |field| fields.contains(&field).then_some(value));
            let (remarks, mut names): (Vec<_>, Vec<_>) =
                marked.iter().copied().filter(|field| takes(&[*field]).is_ok()).partition(|field| REMARKS.contains(field));
            // All remarks at once, and as many of the others as go together: two interfaces cannot have one name.
            let mut together = vec![(remarks, true)];
            while !names.is_empty() {
                let mut some = Vec::new();
                names.retain(|field| {
                    let joins = takes(&[&some[..], &[*field]].concat()).is_ok();
                    some.extend(joins.then_some(*field));
                    !joins
                });
                together.push((some, false));
            }
            for (fields, word_for_word) in together {
                let trees = takes(&fields).unwrap_or_else(|findings| panic!("{base}: {value:?} in {fields:?}: {findings}"));
                for (site, tree) in trees.iter().filter(|(site, tree)| plain[*site] != **tree) {
                    loads += 1;
                    let (came, due) = (loaded(lab, text, site, tree), &shown[site]);
                    let alike = if word_for_word {
                        came == *due
                    } else {
                        came.lines().count() == due.lines().count() && came.lines().all(|line| line != "/run/evil")
                    };
                    if !alike {
                        wrong.push(format!(
                            "{base} {site} {fields:?} {:?}:\n{came}\n  against\n{due}",
                            value.chars().take(80).collect::<String>()
                        ));
                    }
                }
            }
        }
    }
    eprintln!("{loads} gateways with hostile texts were loaded");
    assert!(loads > 20, "{loads}");
    assert!(wrong.is_empty(), "{} of {loads}:\n{}", wrong.len(), wrong.join("\n"));
}

/// Fields that are nothing but remarks.
const REMARKS: [&str; 4] = ["note", "tunnel-note", "reason", "policy-note"];

/// What is built with a value in some fields and harmless ones in the others, or what stops it.
fn built<'v>(text: &str, value: impl Fn(&'static str) -> Option<&'v String>) -> Result<BTreeMap<String, uspan_core::Tree>, String> {
    let file = value("file").map_or("k.key", String::as_str).to_owned();
    let text = texts::filled(text, |field| value(field).map_or_else(|| texts::harmless(field), String::as_str));
    let (description, findings) = Description::parse(&Source::new("d", text.as_str()), known::context());
    if any_stops(&findings) {
        return Err(format!("{findings:?}"));
    }
    let secret = Secret::new(b"Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM".to_vec());
    let secret = SecretFile::Read { secret, guesses_log10: 60.0, drawn: true, exposed: false };
    let built = build(&description, &Supplied { secrets: [(file, secret)].into(), ..Supplied::default() });
    if any_stops(&built.findings) {
        return Err(format!("{:?}", built.findings));
    }
    Ok(built.trees.into_iter().map(|(site, tree)| (site.to_string(), tree)).collect())
}

/// Everything that a tree comes to in the real programs: what the daemon's loaders say, rules that are loaded, commands that would be
/// run, lines that a router takes.
fn loaded(lab: &Lab, description: &str, site: &str, tree: &uspan_core::Tree) -> String {
    let own = description.split("[site.").find_map(|part| part.strip_prefix(site)).expect("the site");
    let quoted = |key: &str| own.split(key).nth(1).and_then(|rest| rest.split('"').nth(1)).expect("a value");
    let address = quoted("address");
    let address = if address.starts_with('@') { texts::harmless("address") } else { address };
    let mut said = lab.load(quoted("platform"), tree, address).expect("a loader").lines.join("\n");
    let folder = tempfile::Builder::new().prefix("uspan-test-").tempdir_in("/var/tmp").expect("a folder");
    for (path, file) in &tree.files {
        let path = folder.path().join(path);
        fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        fs::write(path, &file.text).expect("written");
    }
    said.push_str(&shell(
        folder.path(),
        "for f in etc/iptables/*.v4 etc/iptables/*.v4-jumps; do [ -e $f ] && iptables-restore --noflush < $f; done; iptables-save | sed 's/^#.*//; s/\\[.*//'
         nft list ruleset | grep -v '^#' | grep -c .
         mount -t tmpfs t /run; mkdir -p /run/network
         for f in etc/network/interfaces.d/*; do [ -e $f ] && ifup --no-act -v -a -i $f 2>&1 | grep -v \"^$\"; done
         for f in etc/frr/*.conf; do [ -e $f ] && vtysh -C -f $f && grep -vc '^!' $f; done; ls /run/evil 2>/dev/null",
    ));
    // Numbers of processes and times differ from run to run.
    let lines = said.lines().map(|line| {
        line.split_whitespace()
            .filter(|word| !word.contains(':') || word.ends_with(':') && word.matches(':').count() == 1)
            .collect::<Vec<_>>()
            .join(" ")
    });
    // What pluto says of its interfaces and its kernel comes in any order, or not.
    lines
        .filter(|line| !line.starts_with("whack:") && !line.starts_with("log:") && !line.contains("pid") && !line.contains("uptime"))
        .collect::<Vec<_>>()
        .join("\n")
}

/// Each part of a policy taken out, twice, and exchanged with the next one: the daemon refuses what the reader blames, and nothing else.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn the_parts_of_a_policy_stand_in_one_order() {
    let _ready = &*LAB;
    const PARTS: [&str; 16] = [
        "active",
        "tunnel",
        "esp",
        "inet",
        "proto tcp",
        "from 10.0.0.0/24 to 10.1.0.0/24",
        "local 192.0.2.7",
        "peer 192.0.2.1",
        "ikesa auth hmac-sha2-256 enc aes-256 group modp2048",
        "childsa auth hmac-sha2-256 enc aes-256",
        "srcid a.example.net",
        "dstid b.example.net",
        "ikelifetime 10m",
        "lifetime 5m",
        "psk \"not a real secret\"",
        "tag \"x\"",
    ];
    let folder = tempfile::tempdir().expect("a folder");
    let mut policies: Vec<Vec<&str>> = vec![PARTS.to_vec()];
    for (at, part) in PARTS.into_iter().enumerate() {
        let mut twice = PARTS.to_vec();
        twice.insert(at, part);
        policies.push(twice);
        if at + 1 < PARTS.len() {
            let mut exchanged = PARTS.to_vec();
            exchanged.swap(at, at + 1);
            policies.push(exchanged);
        }
    }
    // Not only neighbours, and not only what stands beside its twin.
    policies.push([&PARTS[..], &["peer 192.0.2.1"]].concat());
    policies.push([&PARTS[..7], &["peer 192.0.2.1", "local 192.0.2.7"], &PARTS[8..]].concat());
    policies.push([&["passive"], &PARTS[..]].concat());
    let mut wrong = Vec::new();
    for policy in &policies {
        let text = format!("ikev2 \"n\" {}\n", policy.join(" "));
        fs::write(folder.path().join("f"), &text).expect("written");
        let takes = shell(folder.path(), "chmod 600 f; iked -n -f f").contains("configuration OK");
        let tree = uspan_core::Tree::of("etc/iked.conf", &text);
        let (_, findings) = known::read_as(known::platform("openiked"), &tree);
        let blames = findings.iter().any(|finding| finding.message.contains("it refuses the file"));
        if takes == blames {
            wrong.push(format!("{text}the daemon takes it: {takes}; {:?}", findings.iter().map(|one| &one.message).collect::<Vec<_>>()));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
