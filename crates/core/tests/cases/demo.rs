//! The demo, from its text to the files of both gateways.

use crate::known;
use uspan_core::algorithm::Kind;
use uspan_core::{Description, SecretFile, Source, Supplied, build};

const DEMO: &str = include_str!("../../demo/orchard.span.toml");

fn supplied() -> Supplied {
    let secret = uspan_core::Secret::new(b"not a real secret, only for this test".to_vec());
    let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
    Supplied { secrets: [("secrets/harvest.key".to_owned(), file)].into(), ..Supplied::default() }
}

#[test]
fn the_demo_builds_without_a_finding() {
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", DEMO), known::context());
    assert_eq!(findings, []);
    let built = build(&description, &supplied());
    assert_eq!(built.findings, []);
    assert_eq!(built.trees.keys().collect::<Vec<_>>(), ["coldstore", "packhouse"]);
    for (site, tree) in &built.trees {
        for (path, file) in &tree.files {
            // Files with a secret in them are never put into a snapshot.
            if !file.private {
                insta::assert_snapshot!(format!("{site}-{}", path.replace('/', "-")), file.text);
            }
        }
    }
    let private: Vec<_> = built.trees.values().flat_map(|t| &t.files).filter(|(_, f)| f.mode() == 0o600).map(|(p, _)| p).collect();
    assert_eq!(private, ["etc/ipsec.d/harvest.secrets", "etc/swanctl/conf.d/harvest.secrets.conf"]);
}

#[test]
fn the_same_input_gives_the_same_bytes() {
    let once = || {
        let (description, _) = Description::parse(&Source::new("orchard.span.toml", DEMO), known::context());
        build(&description, &supplied()).trees
    };
    assert_eq!(once(), once());
}

/// Findings of the demo with the tunnel's strength replaced.
fn findings_with(offer: &str) -> Vec<String> {
    let text = DEMO.replace("strength = \"strong\"", offer);
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", text), known::context());
    assert_eq!(findings, []);
    build(&description, &supplied()).findings.iter().map(|f| format!("{} {} | {}", f.rule.code, f.message, f.remedy)).collect()
}

#[test]
fn nothing_in_common_offers_the_nearest_choice_and_both_sides_possibilities() {
    let found = findings_with(r#"ike = [{ encryption = "aes-256-ccm", prf = "sha2-384", group = "curve448" }]"#);
    assert_eq!(found.len(), 1);
    assert!(found[0].starts_with("US410 no IKE proposal is left that both ends can do; coldstore cannot do `aes-256-ccm`"), "{found:?}");
    assert!(found[0].contains("Instead of `aes-256-ccm` the nearest that both can do is `aes-256-gcm`;"), "{found:?}");
    assert!(found[0].contains("instead of `curve448` the nearest that both can do is `ecp-521`"), "{found:?}");
    assert!(found[0].contains("Packhouse can do encryption: ") && found[0].contains("coldstore can do encryption: "), "{found:?}");
}

#[test]
fn every_choice_and_every_rejection_has_its_reason() {
    let offer = r#"
esp = [{ encryption = "aes-256-gcm" }, { encryption = "camellia-256-ccm" }, { encryption = "aes-128-gcm" }]
ike = [{ encryption = "aes-256-ccm", prf = "sha2-384", group = "ecp-384" }, { encryption = "aes-256-gcm", prf = "sha2-384", group = "ecp-256" }]"#;
    let text = DEMO.replace("strength = \"strong\"", offer);
    let (description, _) = Description::parse(&Source::new("orchard.span.toml", text), known::context());
    let built = build(&description, &supplied());
    let reasons: Vec<_> =
        built.tunnels[0].agreement.reasons.iter().map(|r| format!("{} {} {}: {}", r.about.word(), r.taken, r.value, r.why)).collect();
    insta::assert_snapshot!(reasons.join("\n"));
}

#[test]
fn presets_leave_out_what_one_end_cannot_do() {
    let built = |strength: &str| {
        let text = DEMO.replace("\"strong\"", &format!("\"{strength}\"")).replace("\"libreswan\"", "\"strongswan\"");
        let (description, _) = Description::parse(&Source::new("orchard.span.toml", text), known::context());
        build(&description, &supplied()).tunnels[0].agreement.clone()
    };
    for strength in ["strong", "brisk", "common"] {
        let agreement = built(strength);
        assert!(agreement.reasons.iter().all(|reason| reason.taken), "{strength}");
        assert_eq!(
            agreement.esp.iter().filter(|p| p.first(Kind::KeyExchange) == agreement.ike[0].first(Kind::KeyExchange)).count(),
            agreement.esp.len()
        );
    }
}

/// Names that could run into each other once they are parts of file and section names.
#[test]
fn tunnels_with_awkward_names_do_not_meet() {
    let mut text = DEMO.replace("[tunnel.harvest]", "[tunnel.a]").replace("secrets/harvest.key", "k0");
    let names = ["a-secrets", "a-input", "a-2", "a-conf"];
    for (i, name) in names.iter().enumerate() {
        text.push_str(&format!(
            "[site.s{i}]\nplatform = \"{}\"\ngateway = {{ address = \"192.0.2.{}\", outside = \"o\", inside = \"i\" }}\nnetworks = {{ lan = \"10.{}.0.0/16\" }}\n\
             [tunnel.{name}]\nbetween = [\"packhouse\", \"s{i}\"]\nsecret = {{ file = \"k{}\" }}\n",
            ["strongswan", "libreswan"][i % 2],
            10 + i,
            100 + i,
            i + 1,
        ));
    }
    let (description, findings) = Description::parse(&Source::new("names.span.toml", text), known::context());
    assert_eq!(findings, []);
    let secret = |i: usize| SecretFile::Read {
        secret: uspan_core::Secret::new(vec![b'a' + i as u8; 40]),
        guesses_log10: 40.0,
        drawn: true,
        exposed: false,
    };
    let supplied = Supplied { secrets: (0..5).map(|i| (format!("k{i}"), secret(i))).collect(), ..Supplied::default() };
    let built = build(&description, &supplied);
    assert_eq!(built.findings, []);
    // Three files for each of the five tunnels; and the whole tree reads back to five peers.
    assert_eq!(built.trees["packhouse"].files.len(), 15);
    let (gateway, findings) = uspan_core::verify(known::platform("strongswan"), known::context().filters[0], &built.trees["packhouse"]);
    assert_eq!((gateway.connections.len(), gateway.secrets.len(), findings.len()), (5, 5, 0));
    for connection in &gateway.connections {
        assert!(gateway.secret_for(connection).is_some(), "{}", connection.name);
    }
}

#[test]
fn a_site_that_narrows_its_platform_moves_the_agreement_and_says_why() {
    let narrowed = "shares-internet = true\nallows = { encryption = [\"aes-256-cbc\"], group = [\"modp-4096\"] }\n";
    let text = DEMO.replacen("shares-internet = true\n", narrowed, 1);
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", text), known::context());
    assert_eq!(findings, []);
    let built = build(&description, &supplied());
    assert_eq!(built.findings, []);
    let agreement = &built.tunnels[0].agreement;
    let ike: Vec<_> = agreement.ike.iter().map(ToString::to_string).collect();
    assert_eq!(ike, ["aes-256-cbc + sha2-512, prf sha2-512, group modp-4096"]);
    assert!(agreement.esp.iter().all(|proposal| proposal.to_string().starts_with("aes-256-cbc")), "{:?}", agreement.esp);
    let dropped: Vec<_> = agreement.reasons.iter().filter(|reason| !reason.taken).map(|reason| reason.why.as_str()).collect();
    assert!(dropped.contains(&"dropped: packhouse does not allow `aes-256-gcm`; packhouse does not allow `ecp-384`"), "{dropped:#?}");
}
