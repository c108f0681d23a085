//! The kernel's SAs, as `ip -s xfrm state list nokeys` prints them (ip-xfrm(8)).

use std::io;
use std::net::IpAddr;

use ipnet::IpNet;

use crate::stage::room::Room;

/// One SA for ESP.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EspSa {
    /// Outer source.
    pub from: IpAddr,
    /// Outer destination.
    pub to: IpAddr,
    /// Security parameters index.
    pub spi: u32,
    /// What ties it to policies.
    pub request: u32,
    /// Whether it has keys; one without has an SPI alone, and its daemon waits for the peer's.
    pub keyed: bool,
    /// Transport mode instead of tunnel mode.
    pub transport: bool,
    /// Packets so far.
    pub packets: u64,
    /// Sequence numbers of 64 bits.
    pub extended: bool,
    /// Anti-replay window in packets.
    pub window: u32,
    /// The DSCP of the outer header is taken over on arrival.
    pub takes_dscp: bool,
    /// The DSCP of the inner header is not copied to the outer one.
    pub hides_dscp: bool,
}

/// The SAs of a gateway, without its larval ones.
///
/// # Errors
/// When `ip` cannot be run.
pub fn list(room: &Room) -> io::Result<Vec<EspSa>> {
    let said = room.tell("ip", &["-s", "xfrm", "state", "list", "nokeys"])?;
    Ok(parse(&said.text))
}

fn parse(text: &str) -> Vec<EspSa> {
    let mut sas: Vec<EspSa> = Vec::new();
    let mut ends = None;
    // Whether the lines that follow belong to the last SA, and not to one that is left out.
    let mut counted = false;
    for line in text.lines() {
        let words: Vec<_> = line.split_whitespace().collect();
        match words.as_slice() {
            ["src", from, "dst", to, ..] => ends = from.parse().ok().zip(to.parse().ok()),
            ["proto", "esp", "spi", spi, ..] => {
                counted = false;
                let number = spi.split('(').next().and_then(|hex| u32::from_str_radix(hex.trim_start_matches("0x"), 16).ok());
                if let (Some((from, to)), Some(spi)) = (ends, number.filter(|spi| *spi != 0)) {
                    let transport = words.windows(2).any(|pair| pair == ["mode", "transport"]);
                    let (extended, takes_dscp, hides_dscp) = (false, false, false);
                    let request = request_of(&words).unwrap_or(0);
                    let keyed = false;
                    sas.push(EspSa { from, to, spi, request, keyed, transport, packets: 0, extended, window: 0, takes_dscp, hides_dscp });
                    counted = true;
                }
            }
            ["enc" | "aead", ..] if counted => {
                if let Some(sa) = sas.last_mut() {
                    sa.keyed = true;
                }
            }
            ["replay-window" | "replay_window", ..] if counted => {
                if let Some(sa) = sas.last_mut() {
                    sa.flags(&words);
                }
            }
            [bytes, packets] if counted && bytes.ends_with("(bytes),") => {
                let count = packets.strip_suffix("(packets)").and_then(|n| n.parse().ok());
                if let (Some(sa), Some(count)) = (sas.last_mut(), count) {
                    sa.packets = count;
                }
            }
            _ => {}
        }
    }
    sas.retain(|sa| sa.keyed);
    sas
}

/// The number after `reqid`, which `-s` follows with itself in hexadecimal.
fn request_of(words: &[&str]) -> Option<u32> {
    words.windows(2).find(|pair| pair[0] == "reqid")?[1].split('(').next()?.parse().ok()
}

/// What a policy sends through an SA: source and destination, and the number that ties it to the SA.
pub type Sent = (IpNet, IpNet, u32);

/// The policies for what leaves through ESP, as `ip xfrm policy list dir out` prints them (ip-xfrm(8)).
///
/// # Errors
/// When `ip` cannot be run.
pub fn sent(room: &Room) -> io::Result<Vec<Sent>> {
    Ok(parse_policies(&room.tell("ip", &["xfrm", "policy", "list", "dir", "out"])?.text))
}

fn parse_policies(text: &str) -> Vec<Sent> {
    let mut sent = Vec::new();
    let mut ends = None;
    for line in text.lines() {
        let words: Vec<_> = line.split_whitespace().collect();
        match words.as_slice() {
            ["src", from, "dst", to, ..] if !line.starts_with(char::is_whitespace) => ends = from.parse().ok().zip(to.parse().ok()),
            ["proto", "esp", ..] => sent.extend(ends.take().zip(request_of(&words)).map(|((from, to), request)| (from, to, request))),
            _ => {}
        }
    }
    sent
}

impl EspSa {
    /// What a line says of flags and window.
    fn flags(&mut self, words: &[&str]) {
        let after = |names: &[&str]| {
            words.windows(2).find(|pair| names.contains(&pair[0])).and_then(|pair| pair[1].trim_end_matches(',').parse().ok())
        };
        // A large one stands on a line of its own, and then the first says nothing.
        self.window = after(&["replay-window", "replay_window"]).unwrap_or(0).max(self.window);
        // `ip` leaves no space between the last flag and the word for others.
        let flags = words.iter().skip_while(|word| **word != "flag").map(|word| word.trim_end_matches("extra_flag"));
        let flags: Vec<_> = flags.collect();
        self.extended |= flags.contains(&"esn");
        self.takes_dscp |= flags.contains(&"decap-dscp");
        self.hides_dscp |= flags.contains(&"dont-encap-dscp");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PRINTED: &str = "\
src 198.51.100.20 dst 203.0.113.77
\tproto esp spi 0xc0a80101(3232235777) reqid 1(0x00000001) mode tunnel
\treplay-window 0 seq 0x00000000 flag af-unspec esnextra_flag dont-encap-dscp (0x10100000)
\taead rfc4106(gcm(aes)) <<Keys hidden>> 128
\tanti-replay esn context:
\t seq-hi 0x0, seq 0x0, oseq-hi 0x0, oseq 0x0
\t replay_window 128, bitmap-length 4
\tlifetime config:
\t  limit: soft (INF)(bytes), hard (INF)(bytes)
\t  limit: soft (INF)(packets), hard (INF)(packets)
\tlifetime current:
\t  336(bytes), 4(packets)
\t  add 2026-11-24 23:00:00 use 2026-11-24 23:00:01
src 203.0.113.77 dst 198.51.100.20
\tproto esp spi 0x00000000(0) reqid 1(0x00000001) mode tunnel
\tlifetime current:
\t  0(bytes), 0(packets)
src 203.0.113.77 dst 198.51.100.20
\tproto esp spi 0xb676b1d2(3061232082) reqid 1(0x00000001) mode transport
\treplay-window 0 seq 0x00000000
\tlifetime current:
\t  0(bytes), 0(packets)
";

    #[test]
    fn what_is_sent_through_esp_is_read_from_policies() {
        const POLICIES: &str = "\
src 10.41.0.0/22 dst 10.73.16.0/20 
\tdir out priority 375423 
\ttmpl src 198.51.100.20 dst 203.0.113.77
\t\tproto esp spi 0xc1234567 reqid 7 mode tunnel
src 0.0.0.0/0 dst 0.0.0.0/0 
\tdir out action block priority 399999 
";
        let nets = |from: &str, to: &str| (from.parse().expect("a net"), to.parse().expect("a net"), 7);
        assert_eq!(parse_policies(POLICIES), [nets("10.41.0.0/22", "10.73.16.0/20")]);
    }

    #[test]
    fn sas_have_ends_and_counters_and_larval_ones_are_left_out() {
        let sas = parse(PRINTED);
        assert_eq!(sas.len(), 1, "{sas:?}");
        assert_eq!(sas[0].request, 1);
        assert_eq!((sas[0].extended, sas[0].window, sas[0].hides_dscp, sas[0].takes_dscp), (true, 128, true, false));
        assert!(!sas[0].transport);
        assert!(parse(&PRINTED.replace("mode tunnel", "mode transport"))[0].transport);
        assert_eq!((sas[0].spi, sas[0].packets, sas[0].to.to_string()), (0xc0a8_0101, 4, "203.0.113.77".to_owned()));
    }
}
