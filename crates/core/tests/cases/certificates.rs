//! Certificates: what is read from them, and what is found wrong with them.

use crate::known;
use std::sync::LazyLock;

use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair, SanType};
use uspan_core::*;

/// A certificate with an RSA key, made with `openssl req -x509 -newkey rsa:2048 -days 36500`.
const RSA: &str = include_str!("rsa.crt");

struct Authority {
    certificate: Certificate,
    issuer: Issuer<'static, KeyPair>,
}

fn authority(organisation: &str) -> Authority {
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::OrganizationName, organisation);
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let key = KeyPair::generate().expect("a key");
    let pem = params.self_signed(&key).expect("signed").pem();
    Authority { certificate: Certificate::from_pem(&pem).expect("a certificate"), issuer: Issuer::new(params, key) }
}

static ORCHARDS: LazyLock<Authority> = LazyLock::new(|| authority("Alder Creek Orchards"));

fn leaf(issued_by: &Authority, names: &[&str]) -> Certificate {
    let mut params = CertificateParams::new(names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>()).expect("names");
    params.distinguished_name.push(DnType::CommonName, "gate");
    params.subject_alt_names.push(SanType::Rfc822Name("gate@packhouse.example.net".try_into().expect("a mail address")));
    (params.not_before, params.not_after) = (rcgen::date_time_ymd(2020, 1, 1), rcgen::date_time_ymd(2030, 1, 1));
    let pem = params.signed_by(&KeyPair::generate().expect("a key"), &issued_by.issuer).expect("signed").pem();
    Certificate::from_pem(&pem).expect("a certificate")
}

/// 2027-01-01, and the end of the certificates.
const NOW: i64 = 1_798_761_600;
const END: i64 = 1_893_456_000;

const TEXT: &str = r#"unified-span = 1
[site.packhouse]
platform = "strongswan"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
keys = { certificate = "packhouse.crt", issuer = "ca.crt" }
[site.coldstore]
platform = "libreswan"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20" }
keys = { certificate = "coldstore.crt", issuer = "ca.crt" }
[tunnel.harvest]
between = ["packhouse", "coldstore"]
authentication = "certificates"
"#;

struct Given {
    packhouse: Certificate,
    coldstore: Certificate,
    issuer: Certificate,
    now: i64,
    for_lab: bool,
}

fn good() -> Given {
    Given {
        packhouse: leaf(&ORCHARDS, &["packhouse.example.net", "198.51.100.20"]),
        coldstore: leaf(&ORCHARDS, &["203.0.113.77"]),
        issuer: ORCHARDS.certificate.clone(),
        now: NOW,
        for_lab: false,
    }
}

fn found(given: &Given) -> (Build, Vec<&'static str>) {
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", TEXT), known::context());
    assert!(findings.is_empty(), "{findings:#?}");
    let file = |certificate: &Certificate| KeyFile::Certificate(certificate.clone());
    let keys = [("packhouse.crt", &given.packhouse), ("coldstore.crt", &given.coldstore), ("ca.crt", &given.issuer)];
    let supplied = Supplied {
        keys: keys.iter().map(|(name, certificate)| ((*name).to_owned(), file(certificate))).collect(),
        now: Some(given.now),
        for_lab: given.for_lab,
        ..Supplied::default()
    };
    let built = build(&description, &supplied);
    let codes = built.findings.iter().map(|finding| finding.rule.code).collect();
    (built, codes)
}

#[test]
fn what_a_certificate_says_is_read() {
    let certificate = leaf(&ORCHARDS, &["Packhouse.example.net", "198.51.100.20", "2001:db8::7"]);
    assert_eq!(certificate.subject(), "CN=gate");
    assert_eq!(certificate.validity()[1], END);
    assert_eq!(certificate.kind(), KeyKind::Ecdsa);
    assert!(!certificate.is_authority() && !certificate.is_of_lab() && ORCHARDS.certificate.is_authority());
    let named = |identity: Identity| certificate.names(&identity);
    assert!(named(Identity::Name("packhouse.EXAMPLE.net".to_owned())), "names of hosts have no case");
    assert!(named(Identity::Mail("gate@packhouse.example.net".to_owned())));
    assert!(named(Identity::Address([198, 51, 100, 20].into())) && named(Identity::Address("2001:db8::7".parse().expect("an address"))));
    assert!(!named(Identity::Name("coldstore.example.net".to_owned())) && !named(Identity::Free("gate".to_owned())));
    assert_eq!(Certificate::from_pem(RSA).expect("a certificate").kind(), KeyKind::Rsa(2048));
}

/// A certificate with these parts of a subject.
fn of_subject(parts: &[(DnType, &str)]) -> Certificate {
    let mut params = CertificateParams::default();
    params.distinguished_name = rcgen::DistinguishedName::new();
    parts.iter().for_each(|(kind, value)| params.distinguished_name.push(kind.clone(), *value));
    (params.not_before, params.not_after) = (rcgen::date_time_ymd(2020, 1, 1), rcgen::date_time_ymd(2030, 1, 1));
    let pem = params.signed_by(&KeyPair::generate().expect("a key"), &ORCHARDS.issuer).expect("signed").pem();
    Certificate::from_pem(&pem).expect("a certificate")
}

const ORCHARD: (DnType, &str) = (DnType::OrganizationName, "Alder Creek Orchards");

#[test]
fn a_subject_is_read_in_its_order_and_names_its_owner() {
    let certificate = of_subject(&[(DnType::CountryName, "US"), ORCHARD, (DnType::CommonName, "packhouse")]);
    let subject = certificate.distinguished_name().expect("a subject");
    assert_eq!(subject.to_string(), "C=US, O=Alder Creek Orchards, CN=packhouse");
    assert!(certificate.names(&Identity::Subject(subject.clone())) && !certificate.names(&Identity::Subject(subject.turned())));
    for odd in ["Orchards, Inc.", "A/B", "Äpfel"] {
        assert_eq!(of_subject(&[(DnType::OrganizationName, odd)]).distinguished_name(), None, "{odd}");
    }
}

/// The code, message and remedy for a site that names itself by a subject.
fn subject_found(certificate: Certificate, method: &str) -> Vec<(&'static str, String, String)> {
    let keys = "keys = { certificate = \"packhouse.crt\"";
    let text = TEXT.replacen(keys, &format!("identity = {{ subject = \"O=Alder Creek Orchards, CN=packhouse\" }}\n{keys}"), 1);
    let (description, findings) =
        Description::parse(&Source::new("orchard.span.toml", text.replace("authentication = \"certificates\"", method)), known::context());
    assert!(findings.is_empty(), "{findings:#?}");
    let file = |certificate: &Certificate| KeyFile::Certificate(certificate.clone());
    let given = good();
    let keys = [("packhouse.crt", &certificate), ("coldstore.crt", &given.coldstore), ("ca.crt", &given.issuer)];
    let keys = keys.iter().map(|(name, certificate)| ((*name).to_owned(), file(certificate))).collect();
    let built = build(&description, &Supplied { keys, now: Some(NOW), ..Supplied::default() });
    built.findings.into_iter().map(|finding| (finding.rule.code, finding.message, finding.remedy)).collect()
}

#[test]
fn a_subject_that_the_certificate_does_not_have_is_found_and_the_right_one_said() {
    const CERTIFICATES: &str = "authentication = \"certificates\"";
    let name = (DnType::CommonName, "packhouse");
    assert_eq!(subject_found(of_subject(&[ORCHARD, name.clone()]), CERTIFICATES), []);
    let turned = subject_found(of_subject(&[name, ORCHARD]), CERTIFICATES);
    assert_eq!((turned[0].0, turned.len()), ("US531", 1));
    assert!(turned[0].1.contains("in the other order") && turned[0].2.contains("CN=packhouse, O=Alder Creek Orchards"), "{turned:?}");
    let other = subject_found(of_subject(&[(DnType::CommonName, "press")]), CERTIFICATES);
    assert!(other[0].0 == "US531" && other[0].2.contains("subject = \"CN=press\""), "{other:?}");
    let odd = subject_found(of_subject(&[(DnType::CommonName, "a/b")]), CERTIFICATES);
    assert!(odd[0].0 == "US531" && odd[0].2.contains("alternative names"), "{odd:?}");
    let is_refused = |proof: &str| subject_found(of_subject(&[ORCHARD]), proof).iter().any(|(code, ..)| *code == "US536");
    assert!(is_refused("authentication = \"public-keys\""));
    assert!(!is_refused("secret = { file = \"k\" }"), "a secret is found by any identity");
}

#[test]
fn only_a_whole_certificate_is_one() {
    let pem = ORCHARDS.certificate.pem();
    assert!(Certificate::from_pem(&pem.replace('\n', "\r\n")).is_some_and(|again| again == ORCHARDS.certificate));
    let half: String = pem.lines().enumerate().filter(|(i, _)| *i != 3).map(|(_, line)| format!("{line}\n")).collect();
    for wrong in ["", "x", &half, &format!("{pem}{pem}"), &pem.replace("CERTIFICATE", "PUBLIC KEY")] {
        assert!(Certificate::from_pem(wrong).is_none(), "{wrong}");
    }
}

#[test]
fn a_signature_of_the_same_name_is_not_enough() {
    let impostor = authority("Alder Creek Orchards");
    let certificate = leaf(&ORCHARDS, &["198.51.100.20"]);
    assert!(certificate.issued_by(&ORCHARDS.certificate));
    assert!(!certificate.issued_by(&impostor.certificate), "another key");
    assert!(!leaf(&authority("Others"), &["198.51.100.20"]).issued_by(&ORCHARDS.certificate));
    assert!(!certificate.issued_by(&leaf(&ORCHARDS, &["x.example.net"])), "no authority");
}

#[test]
fn certificates_that_fit_are_built_and_each_end_believes_the_other() {
    let (built, codes) = found(&good());
    assert_eq!(codes, [""; 0]);
    let [one, other] = &built.tunnels[0].gateways;
    assert_eq!(one.authorities.as_slice(), std::slice::from_ref(&ORCHARDS.certificate));
    let shown = other.own_certificate(&other.connections[0]).expect("a certificate");
    assert!(shown.names(&one.connections[0].ike().remote_identity.value) && shown.issued_by(&one.authorities[0]));
}

macro_rules! found {
    ($($name:ident: $change:expr => $codes:expr;)*) => {
        $(#[test]
        fn $name() {
            let mut given = good();
            let change: fn(&mut Given) = $change;
            change(&mut given);
            assert_eq!(found(&given).1, $codes);
        })*
    };
}

found! {
    an_identity_that_is_not_certified: |given| given.coldstore = leaf(&ORCHARDS, &["coldstore.example.net"]) => ["US531"];
    an_authority_that_did_not_issue: |given| given.issuer = authority("Alder Creek Orchards").certificate => ["US532", "US532"];
    an_issuer_that_is_no_authority: |given| given.issuer = leaf(&ORCHARDS, &["x.example.net"]) => ["US532", "US532"];
    the_same_key_at_both: |given| given.coldstore = given.packhouse.clone() => ["US528", "US531"];
    certificates_that_have_ended: |given| given.now = END + 1 => ["US533", "US533"];
    certificates_that_do_not_hold_yet: |given| given.now = 1_500_000_000 => ["US533", "US533"];
    certificates_that_end_soon: |given| given.now = END - 24 * 3600 => ["US534", "US534"];
    keys_of_two_kinds_where_the_platform_has_one: |given| given.packhouse = Certificate::from_pem(RSA).expect("one") => ["US531", "US532", "US603"];
    a_certificate_of_the_lab: |given| {
        let lab = authority(LAB_ORGANISATION);
        given.packhouse = leaf(&lab, &["198.51.100.20"]);
        given.coldstore = leaf(&lab, &["203.0.113.77"]);
        given.issuer = lab.certificate;
    } => ["US535", "US535"];
    a_certificate_of_the_lab_in_the_lab: |given| {
        let lab = authority(LAB_ORGANISATION);
        given.packhouse = leaf(&lab, &["198.51.100.20"]);
        given.coldstore = leaf(&lab, &["203.0.113.77"]);
        (given.issuer, given.for_lab) = (lab.certificate, true);
    } => [""; 0];
}

#[test]
fn an_end_that_does_not_believe_the_other_is_found() {
    let (built, _) = found(&good());
    let [one, mut other] = built.tunnels[0].gateways.clone();
    other.authorities = vec![authority("Others").certificate];
    let [own, peer] = [[198, 51, 100, 20], [203, 0, 113, 77]].map(|address| Endpoint::At(address.into()));
    let end =
        |name, gateway, at: &Endpoint| End { name, gateway, own: at.clone(), reached: at.clone(), shares_internet: false, is_ours: true };
    let codes: Vec<_> = cross_check(end("packhouse", &one, &own), end("coldstore", &other, &peer)).iter().map(|f| f.rule.code).collect();
    assert_eq!(codes, ["US713"]);
}

/// Names of parameters that are not equal, with their weight.
fn unequal(comparison: &Comparison) -> Vec<(String, Gravity)> {
    let all = comparison.pairs.iter().flat_map(|pair| &pair.parameters).filter(|parameter| parameter.gravity != Gravity::Equal);
    all.map(|parameter| (parameter.name.clone(), parameter.gravity)).collect()
}

#[test]
fn compared_ends_believe_each_other_or_it_is_said_who_does_not() {
    let (built, _) = found(&good());
    let [mut one, other] = built.tunnels[0].gateways.clone();
    fn reading<'a>(name: &'a str, gateway: &'a Gateway) -> ReadGateway<'a> {
        ReadGateway { name, gateway, ends_open: false, tree: None }
    }
    fn ends(readings: [ReadGateway<'_>; 2]) -> Comparison {
        known::ends_compared(readings, ["strongswan", "libreswan"])
    }
    assert_eq!(unequal(&ends([reading("packhouse", &one), reading("coldstore", &other)])), []);
    let whole = one.clone();
    one.authorities = vec![authority("Others").certificate];
    let found = unequal(&ends([reading("packhouse", &one), reading("coldstore", &other)]));
    assert_eq!(found, [("key of coldstore".to_owned(), Gravity::Fatal)]);
    let found = unequal(&compare_same(reading("packhouse", &one), reading("description", &whole)));
    assert_eq!(found, [("what the peer is believed by".to_owned(), Gravity::Fatal)]);
    // What stands in a database of the daemon's is not called missing.
    one = whole;
    one.key_pairs.clear();
    let found = unequal(&ends([reading("packhouse", &one), reading("coldstore", &other)]));
    assert_eq!(found, [("key of packhouse".to_owned(), Gravity::Compatible)]);
}

/// Libreswan keeps certificates in a database: what was listed of it counts, and what was not is not known.
#[test]
fn a_listed_database_says_who_is_believed() {
    const CONF: &str =
        "conn harvest\n\tleft=OWN\n\tright=OTHER\n\tleftid=%fromcert\n\trightid=%fromcert\n\tleftcert=gate\n\tauthby=rsasig\n\tauto=AUTO\n";
    let other = authority("Somebody else");
    let ends = ["198.51.100.20", "203.0.113.77"];
    let subject = |name: &str| {
        let mut params = CertificateParams::default();
        params.distinguished_name = rcgen::DistinguishedName::new();
        params.distinguished_name.push(DnType::CommonName, name);
        params.signed_by(&KeyPair::generate().expect("a key"), &ORCHARDS.issuer).expect("signed").pem()
    };
    let certificates = [subject("packhouse"), subject("coldstore")];
    let tree = |end: usize, trust: &str, believed: &Certificate| {
        let mut tree = Tree::default();
        let conf = CONF.replace("OWN", ends[end]).replace("OTHER", ends[1 - end]).replace("AUTO", ["start", "add"][end]);
        tree.add("etc/ipsec.conf", TreeFile::public(conf));
        tree.add(
            "listing/certutil",
            TreeFile::public(format!("\nCertificate Nickname   Trust Attributes\n\ngate   {trust}\nAn authority   CT,,\n")),
        );
        tree.add("listing/certificates/gate.crt", TreeFile::public(certificates[end].clone()));
        tree.add("listing/certificates/An authority.crt", TreeFile::public(believed.pem().to_owned()));
        tree
    };
    let said = |trees: [Tree; 2]| {
        let read = [0, 1].map(|end| known::read_as(known::platform("libreswan"), &trees[end]));
        let actors = [0, 1].map(|end| {
            let reading = ReadGateway { name: "gate", gateway: &read[end].0, ends_open: end == 1, tree: Some(&trees[end]) };
            known::actor(reading, known::platform("libreswan"))
        });
        let rehearsal = rehearse(actors, None).all.remove(0);
        (rehearsal.verdict(), rehearsal.failures.first().map(|failure| failure.reason.clone()))
    };
    let believed = &ORCHARDS.certificate;
    assert_eq!(said([tree(0, "u,u,u", believed), tree(1, "u,u,u", believed)]), (RehearsalVerdict::Up, None));
    let (verdict, why) = said([tree(0, "u,u,u", believed), tree(1, "u,u,u", &other.certificate)]);
    assert_eq!(verdict, RehearsalVerdict::Fails);
    assert!(why.is_some_and(|why| why.contains("no authority that issued")));
    // Of two authorities one is named: what the other one issued is not taken.
    let naming = |end: usize, rightca: &str| {
        let mut tree = tree(end, "u,u,u", believed);
        let conf = tree.files["etc/ipsec.conf"].text.clone() + &format!("\trightca={rightca}\n");
        tree.add("etc/ipsec.conf", TreeFile::public(conf));
        let list = tree.files["listing/certutil"].text.clone() + "Another one   CT,,\n";
        tree.add("listing/certutil", TreeFile::public(list));
        tree.add("listing/certificates/Another one.crt", TreeFile::public(other.certificate.pem().to_owned()));
        tree
    };
    let subject = believed.distinguished_name().expect("a subject").to_string();
    let strangers = other.certificate.distinguished_name().expect("a subject").to_string();
    for (rightca, verdict) in [
        (format!("\"{subject}\""), RehearsalVerdict::Up),
        ("%same".to_owned(), RehearsalVerdict::Up),
        (format!("\"{strangers}\""), RehearsalVerdict::Fails),
        // Nobody is of an authority that there is not.
        ("\"CN=Whoever\"".to_owned(), RehearsalVerdict::Fails),
    ] {
        assert_eq!(said([naming(0, &rightca), tree(1, "u,u,u", believed)]).0, verdict, "{rightca}");
    }
    // Without its key a certificate proves nothing; without a list nothing is known of it.
    assert_eq!(said([tree(0, ",,", believed), tree(1, "u,u,u", believed)]).0, RehearsalVerdict::Unknown);
    let mut bare = tree(0, "u,u,u", believed);
    bare.files.remove("listing/certutil");
    assert_eq!(said([bare, tree(1, "u,u,u", believed)]).0, RehearsalVerdict::Unknown);
}
