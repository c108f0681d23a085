//! strongSwan: charon-systemd and swanctl (swanctl(8), strongswan.conf(5)).

use std::io;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::thread::sleep;
use std::time::Duration;

use super::{Daemon, Negotiated, Running, wait_for};
use crate::stage::StagedGateway;
use crate::stage::room::Said;

pub(super) struct StrongswanDriver;

/// How `swanctl --list-sas` names groups (proposal keywords of libstrongswan, upper case).
#[rustfmt::skip]
pub(super) const GROUPS: &[(u16, &str)] = &[
    (1, "MODP_768"), (2, "MODP_1024"), (5, "MODP_1536"), (14, "MODP_2048"), (15, "MODP_3072"), (16, "MODP_4096"), (17, "MODP_6144"),
    (18, "MODP_8192"), (19, "ECP_256"), (20, "ECP_384"), (21, "ECP_521"), (22, "MODP_1024_160"), (23, "MODP_2048_224"),
    (24, "MODP_2048_256"), (25, "ECP_192"), (26, "ECP_224"), (27, "ECP_224_BP"), (28, "ECP_256_BP"), (29, "ECP_384_BP"),
    (30, "ECP_512_BP"), (31, "CURVE_25519"), (32, "CURVE_448"),
];

/// One value of `key=value` in raw output.
fn value<'a>(text: &'a str, key: &str) -> Option<&'a str> {
    let found = text.split([' ', '{', '}', '\n']).find_map(|word| word.strip_prefix(key)?.strip_prefix('='));
    found.filter(|value| !value.is_empty())
}

/// Seconds that a command waits for an answer of the peer.
const PATIENCE: &str = "60";

/// Settings for a program that only talks to the daemon: without them it loads each plugin that there is, which takes most of its time.
const TALKS_ONLY: (&str, &str) = ("STRONGSWAN_CONF", "/etc/strongswan-lab.conf");

/// Asks the daemon for something that needs no file of the gateway.
fn ask(gateway: &StagedGateway, args: &[&str]) -> io::Result<Said> {
    gateway.room.tell_in("swanctl", args, None, Some(TALKS_ONLY))
}

impl StrongswanDriver {
    fn sas(gateway: &StagedGateway, connection: &str) -> io::Result<String> {
        Ok(ask(gateway, &["--list-sas", "--raw", "--ike", connection])?.text)
    }
}

/// The established IKE SAs of a list.
fn established(text: &str) -> impl Iterator<Item = &str> {
    text.split("list-sa event").filter(|sa| value(sa, "state") == Some("ESTABLISHED"))
}

/// The number of the newest of some SAs that it lists.
fn newest<'a>(sas: impl Iterator<Item = &'a str>) -> Option<u32> {
    sas.filter_map(|sa| value(sa, "uniqueid")?.parse().ok()).max()
}

/// Of IKEv1 the old SA stays for the rest of its life, with nothing in it, though its timer would have left it a few minutes.
fn close_old(gateway: &StagedGateway, connection: &str, old: u32) -> io::Result<()> {
    for _ in 0..20 {
        let text = StrongswanDriver::sas(gateway, connection)?;
        let is = |sa: &&str| value(sa, "uniqueid").and_then(|id| id.parse().ok()) == Some(old);
        let empty = text.split("list-sa event").filter(is).all(|sa| !sa.contains("name="));
        if empty && newest(established(&text)) > Some(old) {
            ask(gateway, &["--terminate", "--ike-id", &old.to_string(), "--timeout", PATIENCE])?;
            return Ok(());
        }
        sleep(Duration::from_millis(500));
    }
    Ok(())
}

impl Daemon for StrongswanDriver {
    fn platform(&self) -> &'static str {
        "strongswan"
    }

    fn loader(&self) -> &'static str {
        include_str!("../../scripts/load/strongswan.sh")
    }

    fn programs(&self, _cache: &Path) -> Vec<(PathBuf, &'static str)> {
        vec![
            (PathBuf::from("/usr/sbin/charon-systemd"), "charon-systemd"),
            (PathBuf::from("/usr/sbin/swanctl"), "strongswan-swanctl"),
            (PathBuf::from("/usr/lib/ipsec/plugins/libstrongswan-gcm.so"), "libstrongswan-standard-plugins"),
            (PathBuf::from("/usr/lib/ipsec/plugins/libstrongswan-chapoly.so"), "libstrongswan-extra-plugins"),
        ]
    }

    fn furnish(&self, _gateway: &StagedGateway, _cache: &Path) -> io::Result<()> {
        Ok(())
    }

    fn start(&self, gateway: &StagedGateway, log: &Path) -> io::Result<Running> {
        // Logging only: everything else stays as packaged.
        let log_to = format!(
            "charon-systemd {{\n  journal {{\n    default = -1\n  }}\n  filelog {{\n    lab {{\n      path = {}\n      append = yes\n      \
             flush_line = yes\n      ike_name = yes\n      default = 1\n      cfg = 2\n    }}\n  }}\n}}\n",
            log.display()
        );
        gateway.lay_etc("etc/strongswan.d/zz-lab.conf", &log_to)?;
        gateway.lay_etc(TALKS_ONLY.1.trim_start_matches('/'), "swanctl {\n  load = nonce\n}\n")?;
        let mut command = Command::new("charon-systemd");
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let child = gateway.room.start(command)?;
        let mut running = Running { child, log: log.to_owned(), loaders: Vec::new() };
        if !wait_for(gateway, "/run/charon.vici") {
            let text = "charon-systemd did not open its socket".to_owned();
            running.loaders.push(("charon-systemd".to_owned(), Said { fine: false, text }));
            return Ok(running);
        }
        // The service does just this after its start.
        let said = gateway.room.tell("swanctl", &["--load-all", "--noprompt"])?;
        running.loaders.push(("swanctl --load-all".to_owned(), said));
        Ok(running)
    }

    fn open(&self, gateway: &StagedGateway, connection: &str, child: &str) -> io::Result<Said> {
        ask(gateway, &["--initiate", "--ike", connection, "--child", child, "--timeout", PATIENCE])
    }

    fn close(&self, gateway: &StagedGateway, connection: &str, _children: &[&str]) -> io::Result<Said> {
        ask(gateway, &["--terminate", "--ike", connection, "--timeout", PATIENCE])
    }

    fn rekey_esp(&self, gateway: &StagedGateway, connection: &str, child: &str) -> io::Result<Option<Said>> {
        // By the name all of them would be: IKEv1 keeps old ones for a while, as nobody does who renews one.
        let text = Self::sas(gateway, connection)?;
        let own =
            text.split("name=").skip(1).filter(|sa| sa.split_whitespace().next() == Some(child) && value(sa, "state") == Some("INSTALLED"));
        match newest(own) {
            Some(id) => ask(gateway, &["--rekey", "--child-id", &id.to_string()]).map(Some),
            None => ask(gateway, &["--rekey", "--ike", connection, "--child", child]).map(Some),
        }
    }

    fn rekey_ike(&self, gateway: &StagedGateway, connection: &str, _children: &[&str]) -> io::Result<Option<Said>> {
        let text = Self::sas(gateway, connection)?;
        match newest(established(&text)) {
            Some(id) => {
                let said = ask(gateway, &["--rekey", "--ike-id", &id.to_string()])?;
                if text.contains(" version=1 ") {
                    close_old(gateway, connection, id)?;
                }
                Ok(Some(said))
            }
            None => ask(gateway, &["--rekey", "--ike", connection]).map(Some),
        }
    }

    fn group_in_use(
        &self,
        gateway: &StagedGateway,
        _running: &Running,
        connection: &str,
        _child: &str,
        spi: u32,
    ) -> io::Result<Negotiated> {
        let text = Self::sas(gateway, connection)?;
        let spi = format!("spi-in={spi:08x}");
        let Some(from) = text.find(&spi) else { return Ok(Some(None)) };
        // Values of a Child SA stand between its braces.
        let rest = &text[from..];
        let Some(word) = value(rest.split('}').next().unwrap_or(rest), "dh-group") else { return Ok(Some(None)) };
        let group = GROUPS.iter().find(|(_, name)| *name == word).map(|(number, _)| *number);
        let unknown = || io::Error::other(format!("swanctl names a group that is not known here: {word}"));
        Ok(Some(Some(group.ok_or_else(unknown)?)))
    }

    fn ike_sas(&self, gateway: &StagedGateway, _running: &Running, connection: &str, _peer: IpAddr) -> io::Result<Vec<String>> {
        let text = Self::sas(gateway, connection)?;
        Ok(established(&text).filter_map(|sa| value(sa, "initiator-spi").map(str::to_owned)).collect())
    }

    fn tells_of_failure(&self, line: &str) -> bool {
        const WORDS: &[&str] = &[
            "NO_PROP",
            "AUTH_FAILED",
            "TS_UNACCEPT",
            "INVAL_KE",
            "no acceptable",
            "no matching",
            "failed",
            "unable",
            "giving up",
            "not found",
            "MAC mismatched",
            "error notify",
            "no IKE config",
            "unacceptable",
            "notify error",
            "does not match",
            "missing",
            "no proposal found",
            "could not decrypt",
            "retransmit",
            "deleting half open",
            "peer not responding",
        ];
        WORDS.iter().any(|word| line.contains(word))
    }
}
