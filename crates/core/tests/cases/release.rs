//! Another release of a daemon, made from what is different in it and nothing else: it writes, reads, agrees and rehearses.

use std::sync::Arc;

use uspan_core::statement::Default;
use uspan_core::*;

// begin: the release
/// A release in which a keyword has another name, a default is another one, and a cipher is gone.
fn next(profile: &Profile) -> Profile {
    profile.with(|next| {
        next.word = "strongswan-next".into();
        next.release = "of tomorrow".into();
        next.statements.change(|rows| {
            for statement in rows {
                match &*statement.keyword {
                    "dpd_delay" => statement.keyword = "liveness_check".into(),
                    "replay_window" => statement.default = Default::Spelled("64".into()),
                    _ => {}
                }
            }
        });
        next.names.change(|names| names.retain(|name| name.word != "chacha20poly1305"));
    })
}
// end: the release

fn context() -> Context {
    let mut context = Context::built_in();
    let base = context.profile("strongswan").expect("a platform").clone();
    context.profiles.push(Arc::new(next(&base)));
    context
}

#[test]
fn a_release_is_made_of_its_changes() {
    let lines = include_str!("release.rs").lines();
    let took = lines.skip_while(|line| *line != "// begin: the release").skip(1).take_while(|line| *line != "// end: the release").count();
    assert!((5..40).contains(&took), "{took} lines");
    let context = context();
    let text = include_str!("../../demo/orchard.span.toml").replace("platform = \"strongswan\"", "platform = \"strongswan-next\"");
    let text = text.replace("platform        = \"strongswan\"", "platform = \"strongswan-next\"");
    assert!(text.contains("strongswan-next"));
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", text), &context);
    assert!(findings.is_empty(), "{findings:#?}");
    let secret = Secret::new(b"not a real secret, only for this test".to_vec());
    let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
    let built = build(&description, &Supplied { secrets: [("secrets/harvest.key".to_owned(), file)].into(), ..Supplied::default() });
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    // What it agrees on and writes.
    let tunnel = &built.tunnels[0];
    let gone = |proposal: &Proposal| proposal.to_string().contains("chacha20");
    assert!(!tunnel.agreement.esp.iter().any(gone), "{:?}", tunnel.agreement.esp);
    let end = usize::from(tunnel.ends[1] == "packhouse");
    let path = "etc/swanctl/conf.d/harvest.conf";
    let mut tree = built.trees["packhouse"].clone();
    let text = tree.files[path].text.clone();
    assert!(text.contains("liveness_check = 30s") && !text.contains("dpd_delay"), "{text}");
    // What it reads: its own word, its own default, and what it does not know any more.
    let profile = context.profile("strongswan-next").expect("a platform");
    assert_eq!(read_tree(&context, profile, &tree), (tunnel.gateways[end].clone(), Vec::new()));
    let older = text.replace("liveness_check = 30s", "dpd_delay = 30s").replace("        replay_window = 128\n", "");
    tree.add(path, TreeFile::public(older.replace("aes256gcm16-", "chacha20poly1305-")));
    let (read, findings) = read_tree(&context, profile, &tree);
    let said: Vec<_> = findings.iter().map(|finding| finding.message.as_str()).collect();
    assert!(said.iter().any(|text| text.contains("dpd_delay")) && said.iter().any(|text| text.contains("chacha20poly1305")), "{said:?}");
    assert_eq!(read.connections[0].children[0].replay_window.value, 64);
    let base = context.profile("strongswan").expect("a platform");
    assert_eq!(read_tree(&context, base, &tree).0.connections[0].children[0].replay_window.value, 32);
    // How it negotiates.
    let actor = |end: usize| {
        let site = description.sites.iter().find(|site| site.name.value == tunnel.ends[end]).expect("a site");
        let reading = ReadGateway { name: &tunnel.ends[end], gateway: &tunnel.gateways[end], ends_open: false, tree: None };
        Actor { reading, behaviour: &site.platform.value.behaviour, stands: site.stands() }
    };
    let came = rehearse([actor(0), actor(1)], None);
    assert!(came.all.len() == 1 && came.all[0].works(), "{:#?}", came.all);
}
