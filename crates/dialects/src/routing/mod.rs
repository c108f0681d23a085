//! Sessions of routing protocols, in the words of FRRouting 8.4 (docs.frrouting.org, bgpd).
//!
//! One configuration file stands for the whole router, and it is the administrator's: what a tunnel adds comes in a file
//! of its own, which `vtysh` merges into the running configuration.

mod read;
mod steps;
mod write;

pub use read::read;
pub(crate) use steps::STEPS;
pub use write::write;

use uspan_model::gateway::{BgpSession, Gateway, Tree};

/// How paths of its files begin, below `/`.
pub(crate) const READS_BELOW: &[&str] = &["etc/frr/"];

/// The folder of its files, below the gateway's `/`.
const FOLDER: &str = "etc/frr";

/// How often the two ask for each other, and when one gives up, in seconds: a lost tunnel is noticed in half a minute.
const TIMERS: (u32, u32) = (10, 30);

/// How lists and address families of a session are called.
fn family(session: &BgpSession) -> (&'static str, &'static str) {
    if session.neighbour.is_ipv4() { ("ip", "ipv4") } else { ("ipv6", "ipv6") }
}

fn path(stem: &str) -> String {
    format!("{FOLDER}/uspan-{stem}.conf")
}

/// The commands that take up a tunnel's sessions from its gateway's tree.
pub fn load(stem: &str, tree: &Tree) -> Vec<String> {
    tree.files.get(&path(stem)).map(|_| format!("vtysh -f /{} >/dev/null", path(stem))).into_iter().collect()
}

/// The commands that end a tunnel's sessions, before its files go and after that.
pub fn take_out(stem: &str, gateway: &Gateway) -> [Vec<String>; 2] {
    let (mut before, mut after) = (Vec::new(), Vec::new());
    let configure = |words: &[String]| {
        let words: String = words.iter().map(|word| format!(" -c '{word}'")).collect();
        format!("vtysh -c 'configure terminal'{words} >/dev/null 2>&1")
    };
    for session in &gateway.sessions {
        let router = format!("router bgp {}", session.own_as);
        before.push(configure(&[router.clone(), format!("no neighbor {}", session.neighbour)]));
        let (word, afi) = family(session);
        before.extend(["in", "out"].map(|way| configure(&[format!("no {word} prefix-list uspan-{stem}-{way}")])));
        for net in &session.announces {
            let statement = format!("  network {net}");
            let forget = configure(&[router.clone(), format!("address-family {afi} unicast"), format!("no network {net}")]);
            // Another tunnel may announce it too.
            after.push(format!("cat /{FOLDER}/uspan-*.conf 2>/dev/null | grep -qx '{statement}' || {forget}"));
        }
        let empty = "vtysh -c 'show running-config' | grep -q '^ neighbor'";
        after.push(format!("{empty} || {}", configure(&[format!("no {router}")])));
        after.push("vtysh -c 'write memory' >/dev/null 2>&1".to_owned());
    }
    [before, after]
}
