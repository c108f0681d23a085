//! OpenIKED: iked and ikectl (iked(8), ikectl(8)).

use std::fs::OpenOptions;
use std::io;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use super::{Daemon, Negotiated, Running, wait_for};
use crate::stage::StagedGateway;
use crate::stage::room::Said;

pub(super) struct OpenikedDriver;

/// The IKE SAs that are established with a peer's address.
fn sas(gateway: &StagedGateway, peer: IpAddr) -> io::Result<Vec<String>> {
    Ok(marks(&gateway.room.tell("ikectl", &["show", "sa"])?.text, peer))
}

/// What it lists of a peer: the address stands without brackets before the port, also one of IPv6.
fn marks(listed: &str, peer: IpAddr) -> Vec<String> {
    let of = |line: &str| {
        let (address, _port) = line.split("->").nth(1)?.split('<').next()?.rsplit_once(':')?;
        address.trim_matches(['[', ']']).parse::<IpAddr>().ok()
    };
    let lines = listed.lines().filter(|line| line.contains("iked_sas:") && line.contains("ESTABLISHED"));
    let lines = lines.filter(|line| of(line) == Some(peer));
    lines.filter_map(|line| line.split("rspi ").nth(1)?.split_whitespace().next().map(str::to_owned)).collect()
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ike_sas_of_a_peer_are_found_in_both_families() {
        let listed = "iked_sas: 0x55d0 rspi 0x9a03 ispi 0x0d0d 203.0.113.77:500->198.51.100.20:500<FQDN/a>[] ESTABLISHED i nexti (nil) pol 0x1\n\
                      iked_sas: 0x55d1 rspi 0x9a04 ispi 0x0d0e 2001:db8:2::77:500->2001:db8:1::20:4500<FQDN/b>[] ESTABLISHED r nexti (nil) pol 0x2\n";
        assert_eq!(marks(listed, "198.51.100.20".parse().expect("an address")), ["0x9a03"]);
        assert_eq!(marks(listed, "2001:db8:1::20".parse().expect("an address")), ["0x9a04"]);
        assert!(marks(listed, "192.0.2.1".parse().expect("an address")).is_empty());
    }
}
