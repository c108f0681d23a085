//! Hostile texts, and descriptions in which each field that takes a text of the user's is marked.

// Long: a list.
/// Pieces of every syntax that is written, and what readers stumble over.
pub fn payloads() -> Vec<String> {
    let mut all: Vec<String> = [
        "$(touch PWNED)",
        "`touch PWNED`",
        "; touch PWNED;",
        "' ; touch PWNED ; '",
        "\"; touch PWNED; \"",
        "|touch PWNED",
        "&& touch PWNED",
        "> PWNED",
        "\\",
        "x \\",
        "\\\"",
        "'",
        "\"",
        "''",
        "\"\"",
        "#",
        "# x",
        "x # y",
        "}",
        "} }",
        "{",
        "{ x = 1 }",
        "} secrets { x { secret = 1 } }",
        "conn evil",
        "\tauto=start",
        "conn evil left=1.2.3.4",
        "include /etc/passwd",
        "include \"/etc/shadow\"",
        ": PSK \"x\"",
        "%any : PSK \"x\"",
        "psk \"x\"",
        "ikev2 \"evil\" passive esp from any to any",
        "add rule inet x y accept",
        "table inet evil { }",
        "; }",
        "counter accept",
        "COMMIT",
        "*filter",
        "-A INPUT -j ACCEPT",
        "-I INPUT -j ACCEPT",
        "router bgp 1",
        "! end",
        "exit",
        "end\nconfigure",
        "ip route 0.0.0.0/0 192.0.2.66",
        "iface evil inet manual",
        "up touch PWNED",
        "pre-up touch PWNED",
        "<script>alert(1)</script>",
        "<img src=x onerror=alert(1)>",
        "</pre><script>",
        "]]>",
        "<!--",
        "-->",
        "<![CDATA[",
        "&lt;",
        "&amp;",
        "&#x3c;b&#x3e;",
        "\"><b>",
        "' onclick='x",
        "{{7*7}}",
        "${x}",
        "%s%n",
        "| x | y |",
        "](http://example.net)",
        "![x](http://example.net/x)",
        "`code`",
        "**b**",
        "\\u0022",
        "../../etc/passwd",
        "/etc/passwd",
        "..",
        ".",
        "~",
        "-rf",
        "--help",
        "-",
        "@/etc/passwd",
        "%defaultroute",
        "%fromcert",
        "0.0.0.0/0",
        "::/0",
        "fqdn:x",
        "keyid:x",
        "C=XX, O=x",
        "a=b, c=d",
        "0x41",
        "0sQQ==",
        "*",
        "?",
        "[a-z]",
        "!",
        "~x",
        "^",
        "\u{1b}[2J",
        "\u{7}",
        "\u{0}",
        "\r\n-I INPUT -j ACCEPT",
        "\n}\nevil {",
        "\u{85}",
        "\u{9b}31m",
        "\u{2028}x",
        "\u{202e}x",
        "\u{2066}x",
        "\u{feff}",
        "\u{e0041}",
        "\u{fffe}",
        "é",
        "日本語",
        "😀",
        "İ",
        "ﬁ",
        "\u{301}",
        "a\u{300}\u{301}",
        " ",
        "  x  ",
        "\t",
        "",
    ]
    .map(str::to_owned)
    .to_vec();
    // Long ones, whose end would be a line of its own to readers that take lines in pieces (2047, 4095 and 10,239 bytes).
    for piece in [2047, 4095, 8191, 10_239] {
        for lead in [0, 20, 40, 60] {
            all.push(format!("{}-I INPUT -s 6.6.6.6/32 -j ACCEPT", "x".repeat(piece - lead)));
            all.push(format!("{}: PSK \"evil\"", "x ".repeat((piece - lead) / 2)));
        }
    }
    for length in [64, 65, 100, 161, 253, 254, 321, 999, 1000, 1001, 70_000] {
        all.push("x".repeat(length));
        all.push("x \\".repeat(length / 3));
    }
    all
}

pub const BENIGN: &str = "plain";

// Long: a list.
/// A description in which each field that takes a text of the user's is marked.
pub fn bases() -> Vec<(&'static str, String, &'static [&'static str])> {
    let policy = r#"unified-span = 1
[site.packhouse]
platform = "strongswan"
gateway = { address = "198.51.100.20", outside = "@outside", inside = "@inside" }
networks = { office = "10.41.0.0/22" }
identity = { name = "@name" }
shares-internet = true
note = "@note"
[site.coldstore]
platform = "libreswan"
packet-filter = "iptables"
gateway = { address = "@address", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20" }
identity = { mail = "@mail" }
shares-internet = true
[tunnel.harvest]
between = ["packhouse", "coldstore"]
secret = { file = "@file" }
services = ["@service"]
note = "@tunnel-note"
"#;
    let routed = r#"unified-span = 1
[site.packhouse]
platform = "strongswan"
style = "route-based"
as-number = 64512
gateway = { address = "198.51.100.20", outside = "wan0", inside = "@inside" }
networks = { office = "10.41.0.0/22" }
identity = { free = "@free" }
note = "@note"
[site.coldstore]
platform = "libreswan"
style = "route-based"
as-number = 64513
gateway = { address = "203.0.113.77", outside = "@outside", inside = "eth1" }
networks = { racks = "10.73.16.0/20" }
[tunnel.harvest]
between = ["packhouse", "coldstore"]
secret = { file = "k.key" }
link = "10.254.0.0/31"
routing = "bgp"
note = "@tunnel-note"
"#;
    let iked = r#"unified-span = 1
[site.packhouse]
platform = "openiked"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
identity = { mail = "@mail" }
note = "@note"
[site.coldstore]
platform = "openiked"
packet-filter = "iptables"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20" }
identity = { name = "@name" }
[tunnel.harvest]
between = ["packhouse", "coldstore"]
secret = { file = "k.key" }
allows-weak = { sha1 = "@reason" }
note = "@tunnel-note"
"#;
    let group = r#"unified-span = 1
[inventory.branches]
file = "sites.csv"
[site.press]
platform = "strongswan"
gateway = { address = "192.0.2.9", outside = "eth0", inside = "eth1" }
networks = { press = "10.99.0.0/16" }
note = "@note"
[group.all]
shape = "star"
hubs = ["press"]
members = ["branches"]
master = "k.key"
policy = { note = "@policy-note" }
"#;
    vec![
        ("policy-based", policy.to_owned(), &["outside", "inside", "name", "note", "address", "mail", "file", "service", "tunnel-note"]),
        ("route-based", routed.to_owned(), &["inside", "free", "note", "outside", "tunnel-note"]),
        ("openiked", iked.to_owned(), &["mail", "note", "name", "reason", "tunnel-note"]),
        ("group", group.to_owned(), &["note", "policy-note", "cell:note", "cell:name", "cell:outside", "cell:address"]),
    ]
}

/// Harmless values, with which everything builds.
pub fn harmless(field: &str) -> &'static str {
    match field {
        "outside" => "wan0",
        "inside" => "lan0",
        "name" => "packhouse.example.net",
        "mail" => "gateway@coldstore.example.net",
        "free" => "packhouse-1",
        "subject" => "C=US, O=Alder Creek Orchards, CN=packhouse",
        "address" => "203.0.113.77",
        "file" => "k.key",
        "service" => "https",
        _ => BENIGN,
    }
}

/// Fields of a site or a tunnel that can be marked, the longest names first, so that none is a part of another.
pub const FIELDS: [&str; 13] =
    ["policy-note", "tunnel-note", "address", "outside", "service", "subject", "inside", "reason", "file", "free", "mail", "name", "note"];

/// The description with a value in each marked field.
pub fn filled<'v>(text: &str, value: impl Fn(&'static str) -> &'v str) -> String {
    FIELDS.iter().fold(text.to_owned(), |text, field| {
        text.replace(&format!("\"@{field}\""), toml_edit::Value::from(value(field)).to_string().trim())
    })
}
