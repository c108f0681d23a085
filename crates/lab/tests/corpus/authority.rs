//! Certificates and keys that a suite makes at its run, and that stand in none of its files: made here, with the names that it gives
//! them.

use std::collections::BTreeMap;
use std::process::Command;

use uspan_core::{Tree, TreeFile};

/// An authority, and a certificate of it for each host.
pub struct Authority {
    certificate: String,
    /// By host: certificate, key, public key.
    hosts: Vec<(&'static str, [String; 3])>,
}

const HOSTS: [&str; 5] = ["moon", "sun", "alice", "bob", "venus"];

/// As the suite calls its organisation.
const ORGANISATION: &str = "/C=CH/O=strongSwan Project";

fn openssl(folder: &std::path::Path, script: &str) {
    let ran = Command::new("sh").arg("-ec").arg(script).current_dir(folder).output().expect("a shell");
    assert!(ran.status.success(), "{script}\n{}", String::from_utf8_lossy(&ran.stderr));
}

/// Certificates as the suite of Libreswan makes them for its hosts (`testing/x509/generate.sh`), each by authority and name.
pub struct Issued(BTreeMap<(&'static str, String), String>);

/// Its authorities, with what their keys are made of. Those of `fake` are called as those of `real`.
const AUTHORITIES: [(&str, &str); 5] = [
    ("real/mainca", "rsa:2048"),
    ("real/mainec", "ec -pkeyopt ec_paramgen_curve:secp384r1"),
    ("real/otherca", "rsa:2048"),
    ("fake/mainca", "rsa:2048"),
    ("fake/mainec", "ec -pkeyopt ec_paramgen_curve:secp384r1"),
];

/// Those of one authority that are made for more (`testing/x509/dist_certs.py`): `none` has no subjectAltName.
const SPECIAL: &[(&str, &str)] = &[
    ("key4096", ""),
    ("west-nosan", "none"),
    ("east-nosan", "none"),
    ("west-eku-ipsecIKE", ""),
    ("west-ekuCritical", ""),
    ("west-ekuCritical-eku-ipsecIKE", ""),
    ("usage-client", ""),
    ("usage-server", ""),
    ("usage-both", ""),
];

impl Issued {
    pub fn new() -> Issued {
        let mut all = BTreeMap::new();
        for (path, key) in AUTHORITIES {
            let folder = tempfile::tempdir().expect("a folder");
            let domain = if path == "real/otherca" { "other.libreswan.org" } else { "testing.libreswan.org" };
            let base = path.rsplit('/').next().expect("a name");
            let subject =
                |name: &str, mail: &str| format!("/C=CA/ST=Ontario/L=Toronto/O=Libreswan/OU=Test Department/CN={name}/emailAddress={mail}");
            let own = subject(&format!("Libreswan test CA for {base}"), "testing@libreswan.org");
            openssl(
                folder.path(),
                &format!("openssl req -x509 -newkey {key} -nodes -days 3650 -keyout root.key -out root.crt -subj '{own}' 2>/dev/null"),
            );
            let begin = if base == "otherca" { "other" } else { "" };
            let mut names = vec!["root".to_owned()];
            let west = ",IP:192.1.2.45,IP:2001:db8:1:2::45";
            let east = ",IP:192.1.2.23,IP:2001:db8:1:2::23";
            let plain = [("west", west), ("east", east), ("north", "")];
            let special: &[_] = if path == "real/mainca" { SPECIAL } else { &[] };
            for (host, addresses) in plain.iter().chain(special) {
                let host = format!("{begin}{host}");
                let (name, own) =
                    (format!("{host}.{domain}"), subject(&format!("{host}.{domain}"), &format!("user-{host}@testing.libreswan.org")));
                let critical = if host.contains("ekuCritical") { "critical," } else { "" };
                let purposes = if host.contains("eku-ipsecIKE") { "1.3.6.1.5.5.7.3.17" } else { "serverAuth,clientAuth" };
                let alternative = match *addresses {
                    "none" => String::new(),
                    addresses => format!("subjectAltName=DNS:{name},email:{host}@{domain}{addresses}\n"),
                };
                let named = format!("{alternative}extendedKeyUsage={critical}{purposes}");
                openssl(
                    folder.path(),
                    &format!(
                        "openssl req -newkey {key} -nodes -keyout {host}.key -out {host}.csr -subj '{own}' 2>/dev/null
                         printf '%s\n' '{named}' > {host}.ext
                         openssl x509 -req -in {host}.csr -CA root.crt -CAkey root.key -CAcreateserial -days 3650 -extfile {host}.ext \
                           -out {host}.crt 2>/dev/null"
                    ),
                );
                names.push(host);
            }
            for name in names {
                let text = std::fs::read_to_string(folder.path().join(format!("{name}.crt"))).expect("made");
                all.insert((path, name), text);
            }
        }
        Issued(all)
    }

    fn get(&self, authority: &str, name: &str) -> Option<&str> {
        self.0.iter().find(|((path, of), _)| *path == authority && of == name).map(|(_, text)| text.as_str())
    }
}

/// The database of a host of that suite, as its commands fill it: trust and certificate by nickname.
#[derive(Default)]
pub struct Database(BTreeMap<String, (&'static str, String)>);

impl Database {
    /// What its command `import.sh` does with a file: nothing where that is not known.
    pub fn import(&mut self, issued: &Issued, file: &str) -> Option<()> {
        let (authority, file) = file.trim_start_matches("/testing/x509/").rsplit_once('/')?;
        let (name, kind) = file.split_once('.')?;
        let root = || Some((authority.rsplit('/').next()?.to_owned(), ("CT,,", issued.get(authority, "root")?.to_owned())));
        let own = |trust| Some((name.to_owned(), (trust, issued.get(authority, name)?.to_owned())));
        match (name, kind) {
            ("root", "cert" | "p12") => self.0.extend([root()?]),
            // Those of another one say who asks a server that is not there; they are not asked for here.
            ("nic", _) => {}
            (_, "all.p12") => self.0.extend([root()?, own("u,u,u")?]),
            (_, "end.p12") => self.0.extend([own("u,u,u")?]),
            (_, "end.cert") => {
                // A certificate of the same name keeps its key.
                if !self.0.contains_key(name) {
                    self.0.extend([own("P,,")?]);
                }
            }
            _ => return None,
        }
        Some(())
    }

    pub fn remove(&mut self, nickname: &str) {
        self.0.remove(nickname);
    }

    /// Lists it as an engineer would.
    pub fn list(&self, tree: &mut Tree) {
        let mut list = String::from("\nCertificate Nickname      Trust Attributes\n                          SSL,S/MIME,JAR/XPI\n\n");
        for (nickname, (trust, certificate)) in &self.0 {
            list.push_str(&format!("{nickname}      {trust}\n"));
            tree.add(format!("listing/certificates/{nickname}.crt"), TreeFile::public(certificate.clone()));
        }
        tree.add("listing/certutil", TreeFile::public(list));
    }
}

impl Authority {
    pub fn new() -> Authority {
        let folder = tempfile::tempdir().expect("a folder");
        let read = |name: &str| std::fs::read_to_string(folder.path().join(name)).expect(name);
        openssl(
            folder.path(),
            &format!(
                "openssl req -x509 -newkey rsa:2048 -nodes -days 3650 -keyout ca.key -out ca.crt -subj '{ORGANISATION}/CN=strongSwan Root CA' 2>/dev/null"
            ),
        );
        let hosts = HOSTS.map(|host| {
            // Two of its hosts are called as people are.
            let (kind, name) = match host {
                "alice" | "bob" => ("email", format!("{host}@strongswan.org")),
                _ => ("DNS", format!("{host}.strongswan.org")),
            };
            openssl(
                folder.path(),
                &format!(
                    "openssl req -newkey rsa:2048 -nodes -keyout {host}.key -out {host}.csr -subj '{ORGANISATION}/CN={name}' 2>/dev/null
                     printf 'subjectAltName={kind}:{name}\\n' > {host}.ext
                     openssl x509 -req -in {host}.csr -CA ca.crt -CAkey ca.key -CAcreateserial -days 3650 -extfile {host}.ext -out {host}.crt 2>/dev/null
                     openssl rsa -in {host}.key -pubout -out {host}.pub 2>/dev/null"
                ),
            );
            (host, [read(&format!("{host}.crt")), read(&format!("{host}.key")), read(&format!("{host}.pub"))])
        });
        Authority { certificate: read("ca.crt"), hosts: hosts.into() }
    }

    /// The same of the older form.
    fn supply_older(&self, tree: &mut Tree, text: &str) {
        for (key, value) in text.lines().filter_map(|line| line.split_once('=')) {
            let file = value.trim().trim_matches('"');
            let path = format!("etc/ipsec.d/certs/{file}");
            let of = self.hosts.iter().find(|(host, _)| file.starts_with(host)).map(|(_, files)| files);
            if let Some([certificate, _, public]) = of.filter(|_| !tree.files.contains_key(&path)) {
                match key.trim() {
                    "leftcert" | "rightcert" => tree.add(path, TreeFile::public(certificate.clone())),
                    "leftsigkey" | "rightsigkey" => tree.add(path, TreeFile::public(public.clone())),
                    _ => {}
                }
            }
        }
        tree.add("etc/ipsec.d/cacerts/strongswanCert.pem", TreeFile::public(self.certificate.clone()));
    }

    /// Adds what the files of a host name and do not have.
    pub fn supply(&self, tree: &mut Tree) {
        if let Some(file) = tree.files.get("etc/ipsec.conf") {
            let text = file.text.clone();
            self.supply_older(tree, &text);
            return;
        }
        let text = tree.files["etc/swanctl/swanctl.conf"].text.clone();
        let mut add = |path: String, text: &str| {
            if !tree.files.contains_key(&path) {
                tree.add(path, TreeFile::public(text.to_owned()));
            }
        };
        let named = text.lines().filter_map(|line| line.split_once('='));
        for (key, value) in named {
            for file in value.split(',').map(|file| file.trim().trim_matches('"')).filter(|file| !file.is_empty()) {
                let of = |file: &str| self.hosts.iter().find(|(host, _)| file.starts_with(host)).map(|(_, files)| files);
                match key.trim() {
                    "certs" => {
                        if let Some([certificate, private, _]) = of(file) {
                            add(format!("etc/swanctl/x509/{file}"), certificate);
                            add(format!("etc/swanctl/rsa/{}", file.replace("Cert", "Key")), private);
                        }
                    }
                    "cacerts" => add(format!("etc/swanctl/x509ca/{file}"), &self.certificate),
                    "pubkeys" => {
                        if let Some([.., public]) = of(file) {
                            add(format!("etc/swanctl/pubkey/{file}"), public);
                        }
                    }
                    _ => {}
                }
            }
        }
        add("etc/swanctl/x509ca/strongswanCert.pem".to_owned(), &self.certificate);
    }
}
