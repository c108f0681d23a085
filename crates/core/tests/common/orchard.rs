//! The orchard's two gateways, as configured.

use uspan_core::*;

/// What both ends prove themselves by.
const SECRET: &[u8] = b"not a real secret, only for this test";

/// Their files; with more lines of `packhouse` and of the tunnel.
pub fn orchard(platforms: [&str; 2], packhouse: &str, tunnel: &str) -> [Tree; 2] {
    let text = format!(
        "unified-span = 1\n\
         [site.packhouse]\nplatform = \"{}\"\ngateway = {{ address = \"198.51.100.20\", outside = \"wan0\", inside = \"lan0\" }}\n\
         networks = {{ office = \"10.41.0.0/22\" }}\n{packhouse}\n\
         [site.coldstore]\nplatform = \"{}\"\ngateway = {{ address = \"203.0.113.77\", outside = \"eth0\", inside = \"eth1\" }}\n\
         networks = {{ racks = \"10.73.16.0/20\" }}\n\
         [tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"k\" }}\n{tunnel}\n",
        platforms[0], platforms[1]
    );
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", text.as_str()), &uspan_core::Context::built_in());
    assert!(findings.is_empty(), "{findings:#?}");
    let file = SecretFile::Read { secret: Secret::new(SECRET.to_vec()), guesses_log10: 40.0, drawn: true, exposed: false };
    let supplied = Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() };
    let mut built = build(&description, &supplied);
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    ["packhouse", "coldstore"].map(|site| built.trees.remove(site).expect("a tree"))
}
