//! Keys and certificates: there, of a pair, one for each site, issued to whom they are shown for.

use std::collections::{BTreeMap, BTreeSet};

use crate::check::Supplied;
use crate::description::{Description, Keys, Site, Tunnel};
use uspan_dialects::profile::KeyKinds;
use uspan_model::finding::{self as rules, Finding, Rule};
use uspan_model::gateway::{Identity, IkeVersion, Method};
use uspan_model::key::{Certificate, KeyFile, KeyKind, PublicKey};
use uspan_model::source::{Located, Span};

/// Less time than that asks for a renewal now.
const SOON: i64 = 30 * 24 * 3600;
/// Shorter RSA keys are withdrawn (NIST SP 800-131A).
const SHORTEST_RSA: usize = 2048;

pub(super) fn check(description: &Description, supplied: &Supplied) -> Vec<Finding> {
    let mut findings = unproven_subjects(description);
    // The sites that sign, each with the ways in which it does.
    let mut signing: BTreeMap<usize, BTreeSet<bool>> = BTreeMap::new();
    for tunnel in description.tunnels.iter().filter(|tunnel| tunnel.method.value != Method::SharedSecret) {
        let certified = tunnel.method.value == Method::Certificate;
        let mut say = |rule: &'static Rule, message: String| {
            findings.push(Finding::new(rule, message).at(description.source.place(tunnel.method.span)));
        };
        let old = tunnel.version.value == IkeVersion::V1;
        let lacks = |site: &&Site| old && !site.platform.value.methods_v1.value.contains(&tunnel.method.value);
        if let Some(site) = description.ends(tunnel).into_iter().find(lacks) {
            let (name, title, words) = (&site.name.value, &site.platform.value.title, tunnel.method.value.words());
            say(&rules::KEYS_NEED_IKEV2, format!("IKEv1 and {words}, which `{name}` ({title}) has in IKEv2 alone"));
        }
        for (site, end) in description.ends(tunnel).into_iter().zip(&tunnel.between) {
            signing.entry(end.value).or_default().insert(certified);
            for lacking in lacking(site.keys.as_deref(), certified) {
                say(&rules::KEY_NEEDED, format!("`{}` has no `{lacking}`", site.name.value));
            }
        }
    }
    for tunnel in description.tunnels.iter().filter(|tunnel| tunnel.method.value == Method::Certificate) {
        findings.extend(other_kinds(description, supplied, tunnel));
    }
    let mut known: BTreeMap<PublicKey, &Site> = BTreeMap::new();
    for (site, ways) in signing {
        let site = &description.sites[site];
        let Some(keys) = &site.keys else { continue };
        let mut checking = Checking { description, supplied, site, keys, findings: &mut findings };
        let mut shown = Vec::new();
        if ways.contains(&false) {
            shown.extend(checking.public());
        }
        if ways.contains(&true) {
            shown.extend(checking.certificate());
        }
        checking.private(&shown);
        let Some((public, file)) = shown.into_iter().next() else { continue };
        let span = file.span;
        if let Some(other) = known.insert(public, site) {
            let message = format!("`{}` has the key of `{}`", site.name.value, other.name.value);
            findings.push(Finding::new(&rules::SAME_KEY, message).at(description.source.place(span)));
        }
    }
    findings
}

/// Sites that name themselves by a subject in a tunnel where they prove themselves by a bare key, to a peer that finds none by a subject.
/// A secret is found by any identity.
fn unproven_subjects(description: &Description) -> Vec<Finding> {
    let bare = description.tunnels.iter().filter(|tunnel| tunnel.method.value == Method::PublicKey);
    let ends = bare.flat_map(|tunnel| {
        let unfound = |peer: usize| !description.sites[tunnel.between[peer].value].platform.value.bare_keys_by_subject.value;
        [0, 1].into_iter().filter(move |end| unfound(1 - end)).map(move |end| (tunnel.between[end].value, tunnel))
    });
    let mut ends: Vec<_> = ends.collect();
    ends.sort_by_key(|(end, _)| *end);
    ends.dedup_by_key(|(end, _)| *end);
    let subject = |(end, tunnel): (usize, &Tunnel)| {
        let site = &description.sites[end];
        let identity = site.identity.as_ref().filter(|identity| matches!(identity.value, Identity::Subject(_)))?;
        let message = format!("`{}` shows no certificate in `{}`", site.name.value, tunnel.name.value);
        Some(Finding::new(&rules::SUBJECT_NEEDS_CERTIFICATE, message).at(description.source.place(identity.span)))
    };
    ends.into_iter().filter_map(subject).collect()
}

/// Certificates for keys of other kinds than a platform signs with and expects.
fn other_kinds(description: &Description, supplied: &Supplied, tunnel: &Tunnel) -> Option<Finding> {
    let ends = description.ends(tunnel);
    let place = description.source.place(tunnel.method.span);
    let kinds = ends.map(|site| supplied.certified(site).and_then(|(pair, _)| Some(pair.certificate?.kind())));
    let rsa = |kind| matches!(kind, KeyKind::Rsa(_));
    if tunnel.version.value == IkeVersion::V1 {
        let limited = ends.iter().find(|site| site.platform.value.key_kinds_v1 == KeyKinds::RsaAlone)?;
        let (other, _) = ends.iter().zip(kinds).find(|(_, kind)| kind.is_some_and(|kind| !rsa(kind)))?;
        let [name, title, other] = [&limited.name.value, &*limited.platform.value.title, &other.name.value];
        let message =
            format!("`{name}` ({title}) signs and expects RSA keys in IKEv1, and the certificate of `{other}` is for another one");
        let remedy = "Have both certificates issued for RSA keys, or say `version = \"ikev2\"`.";
        return Some(Finding::new(&rules::KEYS_NEED_IKEV2, message).at(place).remedy(remedy.to_owned()));
    }
    let limited = ends.iter().find(|site| site.platform.value.key_kinds == KeyKinds::SameAtBothEnds)?;
    let [Some(one), Some(other)] = kinds else { return None };
    let message = format!(
        "`{}` ({}) signs and expects keys of one kind, and only one of the certificates is of RSA",
        limited.name.value, limited.platform.value.title
    );
    let remedy = "Have both certificates issued for keys of one kind: ECDSA, or RSA.";
    (rsa(one) != rsa(other)).then(|| Finding::new(&rules::PLATFORM_CANNOT, message).at(place).remedy(remedy.to_owned()))
}

/// The keys of the language that a way of signing needs and a site does not have.
fn lacking(keys: Option<&Keys>, certified: bool) -> Vec<&'static str> {
    match (keys, certified) {
        (None, _) => vec!["keys"],
        (Some(keys), false) => keys.public.is_none().then_some("keys.public").into_iter().collect(),
        (Some(keys), true) => {
            let each = [(&keys.certificate, "keys.certificate"), (&keys.issuer, "keys.issuer")];
            each.into_iter().filter(|(file, _)| file.is_none()).map(|(_, name)| name).collect()
        }
    }
}

/// A look at the files of one site.
struct Checking<'a> {
    description: &'a Description,
    supplied: &'a Supplied,
    site: &'a Site,
    keys: &'a Keys,
    findings: &'a mut Vec<Finding>,
}

impl<'a> Checking<'a> {
    fn say(&mut self, rule: &'static Rule, span: Span, message: String) -> &mut Finding {
        let place = self.description.source.place(span);
        self.findings.push(Finding::new(rule, message).at(place));
        self.findings.last_mut().unwrap_or_else(|| unreachable!("pushed just now"))
    }

    fn public(&mut self) -> Option<(PublicKey, &'a Located<String>)> {
        let file = self.keys.public.as_ref()?;
        match self.supplied.keys.get(&file.value) {
            Some(KeyFile::Public(public)) => Some((public.clone(), file)),
            other => {
                self.say(&rules::NO_KEY_FILE, file.span, unfit(other, file, "public key on the curve P-256 or P-384"));
                None
            }
        }
    }

    /// A certificate that does not name the site's identity.
    fn misnamed(&mut self, own: &Certificate, file: &Located<String>, identity: &Identity) {
        let Identity::Subject(subject) = identity else {
            let names: Vec<_> = own.identities().iter().map(|name| format!("`{name}`")).collect();
            let names = if names.is_empty() { "nobody".to_owned() } else { names.join(", ") };
            let message = format!("`{}` names {names}, not `{identity}`", file.value);
            self.say(&rules::IDENTITY_NOT_CERTIFIED, file.span, message);
            return;
        };
        let (message, remedy) = match own.distinguished_name() {
            Some(certified) if certified.turned() == *subject => (
                format!("the subject of `{}` is `{certified}`: the same in the other order", file.value),
                format!("Write it in the order of the certificate: `identity = {{ subject = \"{certified}\" }}`."),
            ),
            Some(certified) => (
                format!("the subject of `{}` is `{certified}`, not `{subject}`", file.value),
                format!("Write `identity = {{ subject = \"{certified}\" }}`; or have the certificate issued with the other subject."),
            ),
            None => (
                format!("the subject of `{}` is `{}`, which not every platform can carry", file.value, own.subject()),
                "Use one of its subject alternative names as identity.".to_owned(),
            ),
        };
        self.say(&rules::IDENTITY_NOT_CERTIFIED, file.span, message).remedy = remedy;
    }

    /// The public key of the site's certificate, if that is one the peers take.
    fn certificate(&mut self) -> Option<(PublicKey, &'a Located<String>)> {
        let [own, issuer] = [&self.keys.certificate, &self.keys.issuer].map(|file| {
            let file = file.as_ref()?;
            match self.supplied.keys.get(&file.value) {
                Some(KeyFile::Certificate(certificate)) => Some((certificate, file)),
                other => {
                    self.say(&rules::NO_KEY_FILE, file.span, unfit(other, file, "certificate"));
                    None
                }
            }
        });
        let (own, file) = own?;
        if !matches!(own.kind(), KeyKind::Ecdsa | KeyKind::Rsa(SHORTEST_RSA..)) {
            let what = "a key on the curve P-256 or P-384, or an RSA key of at least 2048 bits";
            self.say(&rules::NO_KEY_FILE, file.span, format!("the certificate `{}` is not for {what}", file.value));
        }
        let identity = self.site.identity();
        if !own.names(&identity) {
            self.misnamed(own, file, &identity);
        }
        if own.is_of_lab() && !self.supplied.for_lab {
            self.say(&rules::LAB_CERTIFICATE, file.span, format!("`{}` was issued by the lab", file.value));
        }
        self.validity(own, file);
        if let Some((issuer, issuer_file)) = issuer {
            if !own.issued_by(issuer) {
                let message = format!("`{}` did not issue `{}`", issuer_file.value, file.value);
                self.say(&rules::NOT_ISSUED_BY, issuer_file.span, message);
            }
            self.validity(issuer, issuer_file);
        }
        Some((own.public(), file))
    }

    fn validity(&mut self, certificate: &Certificate, file: &Located<String>) {
        let Some(now) = self.supplied.now else { return };
        let [from, to] = certificate.validity();
        let days = |seconds: i64| match seconds / (24 * 3600) {
            1 => "1 day".to_owned(),
            days => format!("{days} days"),
        };
        if now < from {
            self.say(&rules::CERTIFICATE_NOT_VALID, file.span, format!("`{}` begins to hold in {}", file.value, days(from - now)));
        } else if now > to {
            self.say(&rules::CERTIFICATE_NOT_VALID, file.span, format!("`{}` ended {} ago", file.value, days(now - to)));
        } else if to - now < SOON && !self.supplied.for_lab {
            self.say(&rules::CERTIFICATE_ENDS, file.span, format!("`{}` ends in {}", file.value, days(to - now)));
        }
    }

    /// The private key belongs to everything that the site shows.
    fn private(&mut self, shown: &[(PublicKey, &Located<String>)]) {
        let Some(file) = &self.keys.private else { return };
        match self.supplied.keys.get(&file.value) {
            Some(KeyFile::Private { public: own, exposed, .. }) => {
                if let Some((_, other)) = shown.iter().find(|(public, _)| public != own) {
                    self.say(&rules::KEYS_DIFFER, file.span, format!("`{}` does not belong to `{}`", file.value, other.value));
                }
                if *exposed {
                    self.say(&rules::EXPOSED_SECRET, file.span, format!("`{}` can be read by others than its owner", file.value));
                }
            }
            other => {
                self.say(&rules::NO_KEY_FILE, file.span, unfit(other, file, "private key on the curve P-256 or P-384, or of RSA"));
            }
        }
    }
}

/// What is wrong with a file that should hold a key or a certificate.
fn unfit(found: Option<&KeyFile>, file: &Located<String>, what: &str) -> String {
    let file = &file.value;
    match found {
        None | Some(KeyFile::Missing) => format!("there is no file `{file}`"),
        Some(KeyFile::Unreadable(why)) => format!("`{file}` cannot be read: {why}"),
        Some(_) => format!("`{file}` holds no {what}"),
    }
}
