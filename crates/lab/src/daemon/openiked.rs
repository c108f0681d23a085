//! OpenIKED: iked and ikectl (iked(8), ikectl(8)).

use std::fs::OpenOptions;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use super::{Daemon, Negotiated, Running, wait_for};
use crate::stage::StagedGateway;
use crate::stage::room::Said;

pub(super) struct OpenikedDriver;

/// The IKE SAs that are established with a peer's address.
fn sas(gateway: &StagedGateway, peer: IpAddr) -> io::Result<Vec<String>> {
    let said = gateway.room.tell("ikectl", &["show", "sa"])?;
    let of = |line: &str| line.split("->").nth(1)?.split('<').next()?.parse::<SocketAddr>().ok();
    let lines = said.text.lines().filter(|line| line.contains("iked_sas:") && line.contains("ESTABLISHED"));
    let lines = lines.filter(|line| of(line).is_some_and(|at| at.ip() == peer));
    Ok(lines.filter_map(|line| line.split("rspi ").nth(1)?.split_whitespace().next().map(str::to_owned)).collect())
}

/// Where the gateway's own key stands (iked(8)).
const OWN_PRIVATE: &str = "etc/iked/private/local.key";
const OWN_PUBLIC: &str = "etc/iked/local.pub";

/// A key that lives for this run: the daemon does not start without one, and the machine's own is not for the lab.
fn own_key(gateway: &StagedGateway) -> io::Result<()> {
    let made = gateway.room.tell("openssl", &["genpkey", "-quiet", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256"])?;
    let made = if made.fine { made } else { gateway.room.tell("openssl", &["ecparam", "-name", "prime256v1", "-genkey", "-noout"])? };
    let public = gateway.room.tell_with("openssl", &["pkey", "-pubout"], Some(made.text.clone()))?;
    if !made.fine || !public.fine {
        return Err(io::Error::other(format!("openssl makes no key for {}: {}", gateway.site.name, public.text.trim())));
    }
    gateway.lay_private(OWN_PRIVATE, &made.text)?;
    gateway.lay_etc(OWN_PUBLIC, &public.text)
}

/// The process that holds the keys sees nothing but `/etc/iked`: a link that leads out of it leads nowhere.
fn own_folders() -> io::Result<()> {
    const HOME: &str = "/etc/iked";
    const FOLDERS: [&str; 8] = ["ca", "certs", "crls", "private", "pubkeys/ipv4", "pubkeys/ipv6", "pubkeys/fqdn", "pubkeys/ufqdn"];
    for folder in FOLDERS {
        let mut path = PathBuf::from(HOME);
        for part in Path::new(folder) {
            path.push(part);
            if std::fs::symlink_metadata(&path).is_ok_and(|meta| meta.is_symlink()) {
                std::fs::remove_file(&path)?;
            }
            if !path.exists() {
                std::fs::create_dir(&path)?;
            }
        }
    }
    Ok(())
}

impl Daemon for OpenikedDriver {
    fn platform(&self) -> &'static str {
        "openiked"
    }

    fn loader(&self) -> &'static str {
        include_str!("../../scripts/load/openiked.sh")
    }

    fn programs(&self, _cache: &Path) -> Vec<(PathBuf, &'static str)> {
        vec![(PathBuf::from("/usr/sbin/iked"), "openiked"), (PathBuf::from("/usr/sbin/ikectl"), "openiked")]
    }

    fn furnish(&self, gateway: &StagedGateway, _cache: &Path) -> io::Result<()> {
        if gateway.site.files.iter().all(|file| file.path != OWN_PRIVATE) {
            own_key(gateway)?;
        }
        gateway.room.run(own_folders)
    }

    fn start(&self, gateway: &StagedGateway, log: &Path) -> io::Result<Running> {
        let check = gateway.room.tell("iked", &["-n", "-f", "/etc/iked.conf"])?;
        let out = OpenOptions::new().create(true).append(true).open(log)?;
        let mut command = Command::new("iked");
        // Not more talkative: it would print the policies, and the secrets with them.
        command.args(["-d", "-f", "/etc/iked.conf"]);
        command.stdin(Stdio::null()).stdout(out.try_clone()?).stderr(out);
        let child = gateway.room.start(command)?;
        let mut running = Running { child, log: log.to_owned(), loaders: vec![("iked -n".to_owned(), check)] };
        if !wait_for(gateway, "/run/iked.sock") {
            running.loaders.push(("iked".to_owned(), Said { fine: false, text: "iked did not open its socket".to_owned() }));
        }
        // The socket is there a moment before the policies are.
        std::thread::sleep(Duration::from_secs(1));
        Ok(running)
    }

    fn open(&self, _gateway: &StagedGateway, _connection: &str, _child: &str) -> io::Result<Said> {
        Err(io::Error::other("OpenIKED has no command to open a tunnel"))
    }

    fn close(&self, gateway: &StagedGateway, _connection: &str, _children: &[&str]) -> io::Result<Said> {
        gateway.room.tell("ikectl", &["reset", "sa"])
    }

    fn rekey_esp(&self, _gateway: &StagedGateway, _connection: &str, _child: &str) -> io::Result<Option<Said>> {
        Ok(None)
    }

    fn rekey_ike(&self, _gateway: &StagedGateway, _connection: &str, _children: &[&str]) -> io::Result<Option<Said>> {
        Ok(None)
    }

    fn group_in_use(
        &self,
        _gateway: &StagedGateway,
        _running: &Running,
        _connection: &str,
        _child: &str,
        _spi: u32,
    ) -> io::Result<Negotiated> {
        Ok(None)
    }

    fn ike_sas(&self, gateway: &StagedGateway, _running: &Running, _connection: &str, peer: IpAddr) -> io::Result<Vec<String>> {
        sas(gateway, peer)
    }

    fn tells_of_failure(&self, line: &str) -> bool {
        const WORDS: &[&str] =
            &["fail", "invalid", "no proposal", "NO_PROPOSAL", "AUTHENTICATION", "TS_UNACCEPTABLE", "unexpected", "timeout", "couldn't"];
        WORDS.iter().any(|word| line.contains(word))
    }
}
