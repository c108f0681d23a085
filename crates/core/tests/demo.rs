//! The demo, from its text to the files of both gateways.

use uspan_core::{Description, SecretFile, Source, Supplied, build};

const DEMO: &str = include_str!("../demo/orchard.span.toml");

fn supplied() -> Supplied {
    let secret = uspan_core::Secret::new(b"not a real secret, only for this test".to_vec());
    let file = SecretFile::Read { secret, guesses_log10: 40.0, exposed: false };
    Supplied { secrets: [("secrets/harvest.key".to_owned(), file)].into() }
}

#[test]
fn the_demo_builds_without_a_finding() {
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", DEMO));
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
    assert_eq!(private, ["etc/ipsec.d/harvest.secrets", "etc/swanctl/conf.d/harvest-secrets.conf"]);
}

#[test]
fn the_same_input_gives_the_same_bytes() {
    let once = || {
        let (description, _) = Description::parse(&Source::new("orchard.span.toml", DEMO));
        build(&description, &supplied()).trees
    };
    assert_eq!(once(), once());
}
