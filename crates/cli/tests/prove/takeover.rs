//! A running pair that somebody wrote by hand is adopted, built and taken up as it is printed: what comes of it is one tunnel, and nothing of
//! the old one.

use std::collections::BTreeMap;
use std::path::Path;

use uspan_core::{Description, SecretFile, Source, Supplied, Tree, build};
use uspan_lab::{Check, Depth, Event, Job, SiteFile, Takeover, cast};

use crate::common::{uspan, write};
use crate::known;
use crate::suite::{LSW, SS, ordered_pairs};

/// The two ends: names, addresses, networks.
const ENDS: [(&str, &str, &str); 2] = [("packhouse", "198.51.100.20", "10.41.0.0/22"), ("coldstore", "203.0.113.77", "10.73.16.0/20")];

/// A secret of somebody else's, made up here.
const SECRET: &str = "pears-and-quinces-of-1987-in-the-cellar";

/// The files of an end as somebody wrote them, and what of them must be gone afterwards.
fn before(word: &str, end: usize) -> (Vec<(&'static str, String)>, Vec<String>) {
    let ((_, own, near), (_, peer, far)) = (ENDS[end], ENDS[1 - end]);
    let first = end == 0;
    match word {
        SS => {
            let action = if first { "start" } else { "none" };
            let text = format!(
                "# by hand\nconnections {{\n  harvest {{\n    local_addrs = {own}\n    remote_addrs = {peer}\n    version = 2\n    proposals = aes256-sha2_256-modp2048\n    mobike = no\n    \
                 local {{\n      auth = psk\n      id = {own}\n    }}\n    remote {{ auth = psk\n      id = {peer} }}\n    children {{\n      bynet {{\n        local_ts = {near}\n        \
                 remote_ts = {far}\n        esp_proposals = aes256-sha2_512\n        start_action = {action}\n      }}\n    }}\n  }}\n}}\nsecrets {{\n  ike-old {{\n    id-a = {own}\n    id-b = {peer}\n    \
                 secret = \"{SECRET}\"\n  }}\n}}\ninclude conf.d/*.conf\n"
            );
            (vec![("etc/swanctl/swanctl.conf", text)], vec!["bynet".to_owned(), "ike-old".to_owned(), SECRET.to_owned()])
        }
        LSW => {
            let auto = if first { "start" } else { "add" };
            let text = format!(
                "# by hand\nconfig setup\n\tlogtime=yes\n\ninclude /etc/ipsec.d/*.conf\n\nconn harvest\n\tauto={auto}\n\tleft={own}\n\tright={peer}\n\tleftsubnet={near}\n\trightsubnet={far}\n\t\
                 authby=secret\n\tike=aes256-sha2;dh14\n\tesp=aes256-sha2_512\n\tpfs=no\n"
            );
            let secrets = format!("include /etc/ipsec.d/*.secrets\n{own} {peer} : PSK \"{SECRET}\"\n");
            (vec![("etc/ipsec.conf", text), ("etc/ipsec.secrets", secrets)], vec![SECRET.to_owned(), "aes256-sha2;dh14".to_owned()])
        }
        _ => {
            let way = if first { "active" } else { "passive" };
            let text = format!(
                "# by hand\nikev2 \"harvest\" {way} esp \\\n\tfrom {near} to {far} \\\n\tlocal {own} peer {peer} \\\n\tikesa auth hmac-sha2-256 enc aes-256 prf hmac-sha2-256 group modp2048 \\\n\t\
                 childsa auth hmac-sha2-512 enc aes-256 \\\n\tsrcid {own} dstid {peer} \\\n\tpsk \"{SECRET}\"\n"
            );
            (vec![("etc/iked.conf", text)], vec![SECRET.to_owned(), "by hand".to_owned()])
        }
    }
}

/// The job of a pair: adopted by the program from a folder, built, with what stood there before.
fn job(number: usize, platforms: [&str; 2], folder: &Path) -> Job {
    let old = [0, 1].map(|end| before(platforms[end], end));
    for (end, (files, _)) in old.iter().enumerate() {
        for (path, text) in files {
            let path = folder.join(ENDS[end].0).join(path);
            std::fs::create_dir_all(path.parent().expect("a folder")).expect("made");
            write(&path, text, 0o600);
        }
    }
    let ran = uspan(folder, &["adopt", ENDS[0].0, ENDS[1].0, "-o", "adopted.span.toml"]);
    let text = std::fs::read_to_string(folder.join("adopted.span.toml")).unwrap_or_else(|_| panic!("{platforms:?}: {}", ran.all()));
    let (description, _) = Description::parse(&Source::new("adopted.span.toml", text.as_str()), known::context());
    let mut supplied = Supplied::default();
    for tunnel in &description.tunnels {
        let file = tunnel.secret_file.as_ref().expect("a secret").value.clone();
        let kept = std::fs::read(folder.join(&file)).expect("written by adopt");
        let secret = uspan_core::Secret::new(kept.strip_suffix(b"\n").unwrap_or(&kept).to_vec());
        supplied.secrets.insert(file, SecretFile::Read { secret, guesses_log10: 20.0, drawn: false, exposed: false });
    }
    let built = build(&description, &supplied);
    let stops: Vec<_> = built.findings.iter().filter(|finding| finding.rule.severity == uspan_core::Severity::Error).collect();
    assert!(stops.is_empty() && built.tunnels.len() == 1, "{platforms:?}: {stops:#?}\n{text}");
    let trees: BTreeMap<String, Tree> = built.trees.clone();
    let mut job = cast(&description, &built, &trees, &BTreeMap::new(), &[], |_| true);
    job.number = number;
    job.depth = Depth::Takeover;
    for (end, (files, gone)) in old.into_iter().enumerate() {
        let children: Vec<String> =
            built.tunnels[0].gateways[end].connections.iter().flat_map(|one| &one.children).map(|child| child.name.clone()).collect();
        let site = job.sites.iter_mut().find(|site| site.name == ENDS[end].0).expect("the site");
        let platform = known::platform(platforms[end]);
        // The end that opens at once is told to, where taking up does not do that.
        let opens = built.tunnels[0].agreement.opening[end].start;
        let commands = platform.take_up.iter().chain(platform.open.iter().filter(|_| opens));
        // Once for each Child SA where it is named.
        let take_up = commands.flat_map(|command| match command.contains("{}") {
            true => children.iter().map(|child| command.replace("{}", child)).collect(),
            false => vec![command.to_string()],
        });
        site.takeover = Some(Takeover {
            before: files.into_iter().map(|(path, text)| SiteFile { path: path.to_owned(), private: true, text }).collect(),
            script: std::fs::read_to_string(folder.join(format!("old/{}.sh", ENDS[end].0))).expect("written by adopt"),
            take_up: take_up.collect(),
            gone,
        });
    }
    job
}

/// What came of all ordered pairs, or of some: those at which something failed.
pub fn tried(some: usize) -> (usize, Vec<String>) {
    let folder = crate::folder();
    let all = ordered_pairs();
    let jobs: Vec<Job> = all
        .iter()
        .take(some)
        .enumerate()
        .map(|(number, platforms)| {
            let own = folder.path().join(number.to_string());
            std::fs::create_dir_all(&own).expect("made");
            job(number, *platforms, &own)
        })
        .collect();
    let count = jobs.len();
    let (mut wrong, mut rows) = (Vec::new(), 0);
    crate::perform(jobs, std::env::var_os("USPAN_KEEP").map(Into::into), &mut |event| match event {
        Event::Row(row) if row.check == Check::TakenOver => {
            rows += 1;
            if row.ends.iter().any(uspan_lab::Outcome::failed) {
                wrong.push(format!("{:?}: {:?}\n   {}", all[row.job], row.ends, row.words.join("\n   ")));
            }
        }
        Event::Broken { job, how } => wrong.push(format!("{:?}: {how}", all[job])),
        _ => {}
    });
    assert_eq!(rows, count, "each is told: {wrong:#?}");
    (count, wrong)
}
