//! A witness on the internet: it sees every packet that a gateway sends out, and tells protected from clear.

use std::fs::File;
use std::io::{self, BufWriter, Write as _};
use std::net::IpAddr;
use std::num::NonZeroU32;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use etherparse::{NetSlice, SlicedPacket, TransportSlice};
use ipnet::IpNet;
use rustix::net::sockopt::{Timeout, set_socket_recv_buffer_size, set_socket_recv_buffer_size_force, set_socket_timeout};
use rustix::net::{AddressFamily, Protocol, RecvFlags, SocketType, recv, socket};

use crate::job::{IkeSeen, JobSite};
use crate::stage::room::Room;

/// What may cross the internet under protection only.
#[derive(Clone, Debug, Default)]
pub struct ProtectedPacket {
    /// Networks: every packet from or to one of them.
    pub nets: Vec<IpNet>,
    /// Pairs of gateways: every packet between them, but for IKE and ESP.
    pub gateways: Vec<[IpAddr; 2]>,
}

/// What was seen so far.
#[derive(Clone, Debug, Default)]
pub struct Seen {
    /// ESP packets, by outer source and destination.
    pub esp: Vec<(IpAddr, IpAddr)>,
    /// ESP in UDP (RFC 3948).
    pub esp_in_udp: u64,
    /// IKE messages.
    pub ike: u64,
    /// The first of them.
    pub messages: Vec<IkeSeen>,
    /// Packets with a protected address, in clear: source, destination, IP protocol.
    pub clear: Vec<(IpAddr, IpAddr, u8)>,
}

impl Seen {
    /// A packet in clear that came from a gateway or from behind it, in words.
    pub fn clear_from(&self, site: &JobSite) -> Option<String> {
        let own = |from: &IpAddr| {
            *from == site.address || site.networks.iter().map(|(_, net)| net).chain(&site.seen).any(|net| net.contains(from))
        };
        let (from, to, protocol) = self.clear.iter().find(|(from, ..)| own(from))?;
        Some(format!("in clear: {from} to {to}, IP protocol {protocol}"))
    }

    fn message(&mut self, from: IpAddr, to: IpAddr, message: &[u8]) {
        const FIRST: usize = 400;
        self.ike += 1;
        if self.messages.len() < FIRST {
            self.messages.extend(ike_seen(from, to, message));
        }
    }

    /// ESP packets from one gateway to another.
    pub fn esp_between(&self, from: IpAddr, to: IpAddr) -> usize {
        self.esp.iter().filter(|ends| **ends == (from, to)).count()
    }
}

/// The witness.
pub struct Witness {
    seen: Arc<Mutex<Seen>>,
    stop: Arc<AtomicBool>,
}

/// How often a witness without packets looks whether it is still needed. Rarely: in a guest every look costs, while
/// hours pass in seconds.
const PAUSE: Duration = Duration::from_secs(60);

/// Bytes that wait for a witness which is kept from looking: more than a flow has.
const WAITING: usize = 8 << 20;

/// Ethernet's numbers of IPv4 and IPv6 (IANA IEEE 802 numbers).
const ETHERTYPES: [u16; 2] = [0x0800, 0x86dd];

/// The IP protocol of GRE (IANA protocol numbers).
const GRE: u8 = 47;

impl Witness {
    /// Starts watching; every packet also goes into a capture file (libpcap format, link type 101, raw IP).
    ///
    /// # Errors
    /// Without the right to see packets, or when the capture file cannot be made.
    pub fn watch(internet: &Room, protected: ProtectedPacket, capture: &Path) -> io::Result<Witness> {
        let seen = Arc::new(Mutex::new(Seen::default()));
        let stop = Arc::new(AtomicBool::new(false));
        let pcap = Arc::new(Mutex::new(Pcap::new(capture)?));
        let protected = Arc::new(protected);
        for ethertype in ETHERTYPES {
            // A socket for one protocol, not for all, sees what comes in and not what is sent on: each packet once.
            let fd: OwnedFd = internet.run(move || {
                let protocol = NonZeroU32::new(u32::from(ethertype.to_be())).map(Protocol::from_raw);
                socket(AddressFamily::PACKET, SocketType::DGRAM, protocol)
            })?;
            set_socket_timeout(&fd, Timeout::Recv, Some(PAUSE))?;
            // More than the machine lets everybody have, where this is its own root; in a user namespace as much as that.
            set_socket_recv_buffer_size_force(&fd, WAITING).or_else(|_| set_socket_recv_buffer_size(&fd, WAITING))?;
            let (seen, stop, pcap, protected) = (seen.clone(), stop.clone(), pcap.clone(), protected.clone());
            std::thread::spawn(move || {
                let mut buffer = vec![0u8; 70_000];
                while !stop.load(Ordering::Relaxed) {
                    let Ok((_, length)) = recv(&fd, &mut buffer[..], RecvFlags::empty()) else { continue };
                    let packet = &buffer[..length];
                    note(&mut lock(&seen), packet, &protected);
                    lock(&pcap).add(packet);
                }
            });
        }
        Ok(Witness { seen, stop })
    }

    /// What was seen since the last call.
    pub fn take(&self) -> Seen {
        // Packets that were just sent have passed the sockets by now; their threads may need a moment.
        std::thread::sleep(Duration::from_millis(50));
        std::mem::take(&mut *lock(&self.seen))
    }
}

impl Drop for Witness {
    /// Its threads end by themselves, at their next packet or look.
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn note(seen: &mut Seen, packet: &[u8], protected: &ProtectedPacket) {
    let Ok(sliced) = SlicedPacket::from_ip(packet) else { return };
    let (from, to, protocol): (IpAddr, IpAddr, u8) = match &sliced.net {
        Some(NetSlice::Ipv4(ip)) => (ip.header().source_addr().into(), ip.header().destination_addr().into(), ip.header().protocol().0),
        Some(NetSlice::Ipv6(ip)) => (ip.header().source_addr().into(), ip.header().destination_addr().into(), ip.header().next_header().0),
        _ => return,
    };
    // GRE carries what is protected; bare it shows it.
    let between = || protected.gateways.iter().any(|pair| *pair == [from, to] || *pair == [to, from]);
    let carries = match &sliced.transport {
        Some(TransportSlice::Udp(udp)) => [500, 4500].iter().any(|port| [udp.source_port(), udp.destination_port()].contains(port)),
        _ => protocol == 50,
    };
    let inner = protected.nets.iter().any(|net| net.contains(&from) || net.contains(&to));
    if protocol == GRE || inner || (!carries && between()) {
        if seen.clear.len() < 20 {
            seen.clear.push((from, to, protocol));
        }
        return;
    }
    match &sliced.transport {
        _ if protocol == 50 => seen.esp.push((from, to)),
        Some(TransportSlice::Udp(udp)) if [udp.source_port(), udp.destination_port()].contains(&4500) => {
            // Four zero bytes mark IKE, one byte 0xff a keep-alive (RFC 3948 section 2).
            match udp.payload() {
                [0, 0, 0, 0, message @ ..] => seen.message(from, to, message),
                [0xff] => {}
                _ => {
                    seen.esp_in_udp += 1;
                    seen.esp.push((from, to));
                }
            }
        }
        Some(TransportSlice::Udp(udp)) if udp.destination_port() == 500 => seen.message(from, to, udp.payload()),
        _ => {}
    }
}

/// The header of an IKE message, and the notifications that stand in it in clear (RFC 7296 sections 3.1, 3.2 and 3.10; RFC
/// 2408 sections 3.1, 3.2 and 3.14).
fn ike_seen(from: IpAddr, to: IpAddr, message: &[u8]) -> Option<IkeSeen> {
    const ENCRYPTED_V1: u8 = 1;
    let (&[first, version, exchange, flags], rest) = message.get(16..)?.split_first_chunk()?;
    let (id, rest) = rest.split_first_chunk()?;
    let (version, id, bytes) = (version >> 4, u32::from_be_bytes(*id), message.len());
    let mut seen = IkeSeen { from, to, version, exchange, flags, id, notifies: Vec::new(), bytes };
    // The notification's payload, and what stands in it before the type.
    let (notify, before) = if seen.version == 1 { (11, 6) } else { (41, 2) };
    let (mut kind, mut body) = (first, rest.get(4..)?);
    while kind != 0 && !(seen.version == 1 && flags & ENCRYPTED_V1 != 0) {
        let Some((&[next, _, high, low], _)) = body.split_first_chunk() else { break };
        let length = usize::from(u16::from_be_bytes([high, low]));
        let Some(payload) = body.get(4..length) else { break };
        if kind == notify {
            seen.notifies.extend(payload.get(before..before + 2).map(|word| u16::from_be_bytes([word[0], word[1]])));
        }
        // What stands behind the encrypted payloads belongs to them.
        if seen.version == 2 && [46, 53].contains(&kind) {
            break;
        }
        body = &body[length..];
        kind = next;
    }
    Some(seen)
}

/// A capture file.
struct Pcap {
    file: BufWriter<File>,
}

impl Pcap {
    fn new(path: &Path) -> io::Result<Pcap> {
        let mut file = BufWriter::new(File::create(path)?);
        let head: [u32; 6] = [0xa1b2_c3d4, 0x0004_0002, 0, 0, 0x0004_0000, 101];
        for word in head {
            file.write_all(&word.to_ne_bytes())?;
        }
        file.flush()?;
        Ok(Pcap { file })
    }

    /// A packet; a full disk costs the capture, not the proof.
    fn add(&mut self, packet: &[u8]) {
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        let length = u32::try_from(packet.len()).unwrap_or(0);
        let words = [u32::try_from(now.as_secs()).unwrap_or(0), now.subsec_micros(), length, length];
        let head: Vec<u8> = words.iter().flat_map(|word| word.to_ne_bytes()).collect();
        let _ = self.file.write_all(&head).and_then(|()| self.file.write_all(packet)).and_then(|()| self.file.flush());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use etherparse::PacketBuilder;

    fn udp(from: [u8; 4], to: [u8; 4], ports: [u16; 2], payload: &[u8]) -> Vec<u8> {
        let mut packet = Vec::new();
        PacketBuilder::ipv4(from, to, 64).udp(ports[0], ports[1]).write(&mut packet, payload).expect("written");
        packet
    }

    #[test]
    fn notifications_in_clear_are_read_and_bad_messages_are_none() {
        let at: IpAddr = [192, 0, 2, 1].into();
        let head = |next, version, exchange, flags| [vec![7; 16], vec![next, version, exchange, flags, 0, 0, 0, 1, 0, 0, 0, 0]].concat();
        let refusal = [head(41, 0x20, 34, 0x20), vec![0, 0, 0, 8, 0, 0, 0, 14]].concat();
        let seen = ike_seen(at, at, &refusal).expect("a header");
        assert_eq!((seen.version, seen.exchange, seen.flags, seen.id, seen.notifies), (2, 34, 0x20, 1, vec![14]));
        let old = [head(11, 0x10, 5, 0), vec![0, 0, 0, 12, 0, 0, 0, 1, 1, 0, 0, 14]].concat();
        assert_eq!(ike_seen(at, at, &old).expect("a header").notifies, [14]);
        for length in 0..refusal.len() {
            let seen = ike_seen(at, at, &refusal[..length]);
            assert_eq!(seen.is_some(), length >= 28, "{length}");
        }
        let endless = [head(41, 0x20, 34, 0), vec![41, 0, 0, 0]].concat();
        assert_eq!(ike_seen(at, at, &endless).expect("a header").notifies, [0u16; 0]);
    }

    #[test]
    fn clear_packets_of_protected_networks_are_told_from_protected_ones() {
        let mut protected = ProtectedPacket { nets: vec!["10.41.0.0/22".parse().expect("a network")], gateways: Vec::new() };
        let mut seen = Seen::default();
        let gateways = ([198, 51, 100, 20], [203, 0, 113, 77]);
        note(&mut seen, &udp(gateways.0, gateways.1, [500, 500], &[1; 28]), &protected);
        note(&mut seen, &udp(gateways.0, gateways.1, [4500, 4500], &[0, 0, 0, 0, 7]), &protected);
        note(&mut seen, &udp(gateways.0, gateways.1, [4500, 4500], &[0xff]), &protected);
        note(&mut seen, &udp(gateways.0, gateways.1, [4500, 4500], &[1, 2, 3, 4, 5]), &protected);
        note(&mut seen, &udp(gateways.0, [10, 41, 0, 10], [7, 7], b"leak"), &protected);
        note(&mut seen, &udp([10, 41, 1, 1], gateways.1, [7, 7], b"leak"), &protected);
        assert_eq!((seen.ike, seen.esp_in_udp, seen.esp_between(gateways.0.into(), gateways.1.into())), (2, 1, 1));
        let clear: Vec<_> = seen.clear.iter().map(|(from, to, protocol)| format!("{from} {to} {protocol}")).collect();
        assert_eq!(clear, ["198.51.100.20 10.41.0.10 17", "10.41.1.1 203.0.113.77 17"]);
        protected.gateways.push([gateways.1.into(), gateways.0.into()]);
        seen.clear.clear();
        note(&mut seen, &udp(gateways.0, gateways.1, [4500, 4500], &[1, 2, 3, 4, 5]), &protected);
        note(&mut seen, &udp(gateways.0, [192, 0, 2, 1], [7, 7], b"to others"), &protected);
        assert_eq!(seen.clear.len(), 0);
        note(&mut seen, &udp(gateways.0, gateways.1, [7, 7], b"leak"), &protected);
        assert_eq!(seen.clear.len(), 1);
    }
}
