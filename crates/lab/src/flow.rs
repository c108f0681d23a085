//! Traffic between hosts: each call is a fresh flow.

use std::io::{self, Read as _, Write as _};
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::os::fd::{AsFd, OwnedFd};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU16, Ordering};
use std::time::{Duration, Instant};

use etherparse::{IcmpEchoHeader, Icmpv4Header, Icmpv4Type};
use rustix::net::sockopt::{
    Ipv4PathMtuDiscovery, Ipv6PathMtuDiscovery, Timeout, ip_mtu, ipv6_mtu, set_ip_mtu_discover, set_ipv6_mtu_discover, set_socket_timeout,
};
use rustix::net::{AddressFamily, RecvFlags, SendFlags, SocketType, bind, connect, ipproto, recv, send, socket};

use crate::stage::Machine;
use crate::stage::room::Room;

/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(3);
/// How long something that must not arrive is waited for.
const ABSENCE: Duration = Duration::from_millis(700);
/// Enough for several full-size segments.
const BULK: usize = 40_000;

/// Where a flow goes: a room, the address it has there, and the one under which it is reached.
#[derive(Clone, Copy)]
pub struct Target<'a> {
    /// The room.
    pub room: &'a Room,
    /// Its address.
    pub own: IpAddr,
    /// As what it is seen.
    pub seen: IpAddr,
}

impl<'a> Target<'a> {
    /// A room at its own address.
    pub fn plain(room: &'a Room, own: IpAddr) -> Target<'a> {
        Target { room, own, seen: own }
    }

    /// Its end of a flow to this port, or to one of its own, and as what that is seen.
    fn ports(&self, port: Option<u16>) -> (SocketAddr, SocketAddr) {
        let port = port.unwrap_or_else(number);
        (SocketAddr::new(self.own, port), SocketAddr::new(self.seen, port))
    }

    /// A machine at its own address.
    pub fn machine(machine: &'a Machine) -> Target<'a> {
        Target::plain(&machine.room, machine.host.address)
    }
}

/// Every flow has a number of its own: port, or identifier of an echo request.
fn number() -> u16 {
    static NEXT: AtomicU16 = AtomicU16::new(20_000);
    NEXT.fetch_add(1, Ordering::Relaxed)
}

fn patient(fd: impl AsFd, patience: Duration) -> io::Result<()> {
    Ok(set_socket_timeout(fd, Timeout::Recv, Some(patience))?)
}

/// Sends an echo request and waits for the answer; tries a few times, because a first packet may be lost while a
/// tunnel is being opened.
pub fn ping(from: &Room, to: IpAddr, tries: u16) -> Result<(), String> {
    ping_from(from, None, to, tries)
}

/// The same from one of the room's own addresses.
pub fn ping_from(from: &Room, own: Option<IpAddr>, to: IpAddr, tries: u16) -> Result<(), String> {
    let id = number();
    from.run(move || {
        let fd = echo_socket(own, to).map_err(|e| e.to_string())?;
        for seq in 0..tries {
            match echo(&fd, to, id, seq) {
                Ok(true) => return Ok(()),
                Ok(false) => {}
                // Refused by a policy or a route of the host itself, or of a gateway that says so.
                Err(error) if seq + 1 == tries => return Err(error.to_string()),
                Err(_) => std::thread::sleep(PATIENCE),
            }
        }
        Err("no answer".to_owned())
    })
}

fn echo_socket(own: Option<IpAddr>, to: IpAddr) -> io::Result<OwnedFd> {
    let (family, protocol) = if to.is_ipv4() { (AddressFamily::INET, ipproto::ICMP) } else { (AddressFamily::INET6, ipproto::ICMPV6) };
    let fd = socket(family, SocketType::RAW, Some(protocol))?;
    if let Some(own) = own {
        bind(&fd, &SocketAddr::new(own, 0))?;
    }
    connect(&fd, &SocketAddr::new(to, 0))?;
    patient(&fd, PATIENCE)?;
    Ok(fd)
}

/// One echo request; whether its answer came (RFC 792, RFC 4443).
fn echo(fd: &OwnedFd, to: IpAddr, id: u16, seq: u16) -> io::Result<bool> {
    send_echo(fd, to, id, seq)?;
    let until = Instant::now() + PATIENCE;
    while let Some(answer) = next_answer(fd, to, id, until)? {
        if answer == seq {
            return Ok(true);
        }
    }
    Ok(false)
}

/// The next answer to an echo request of this identifier, if one comes until then: others' answers come here too, one after the other.
fn next_answer(fd: &OwnedFd, to: IpAddr, id: u16, until: Instant) -> io::Result<Option<u16>> {
    let mut buffer = [0u8; 256];
    loop {
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Ok(None);
        }
        patient(fd, left.max(Duration::from_millis(1)))?;
        match recv(fd, &mut buffer[..], RecvFlags::empty()) {
            Ok((_, length)) => {
                if let Some(seq) = answer_in(&buffer[..length], to, id) {
                    return Ok(Some(seq));
                }
            }
            Err(rustix::io::Errno::AGAIN) => {}
            Err(error) => return Err(error.into()),
        }
    }
}

fn send_echo(fd: &OwnedFd, to: IpAddr, id: u16, seq: u16) -> io::Result<()> {
    const PAYLOAD: &[u8] = b"does this cross?";
    let head: Vec<u8> = if to.is_ipv4() {
        Icmpv4Header::with_checksum(Icmpv4Type::EchoRequest(IcmpEchoHeader { id, seq }), PAYLOAD).to_bytes().to_vec()
    } else {
        // The kernel fills in the checksum of ICMPv6.
        let ([a, b], [c, d]) = (id.to_be_bytes(), seq.to_be_bytes());
        vec![128, 0, 0, 0, a, b, c, d]
    };
    send(fd, &[&head, PAYLOAD].concat(), SendFlags::empty())?;
    Ok(())
}

/// The sequence number of the answer to an echo request of this identifier, if a packet is one.
fn answer_in(packet: &[u8], to: IpAddr, id: u16) -> Option<u16> {
    // Raw sockets of IPv4 give the IP header too.
    let (start, answer_type) = if to.is_ipv4() { (usize::from(packet.first()? & 0x0f) * 4, 0) } else { (0, 129) };
    let message = packet.get(start..).filter(|message| message.len() >= 8)?;
    (message[0] == answer_type && message[4..6] == id.to_be_bytes()).then(|| u16::from_be_bytes([message[6], message[7]]))
}

/// Echo requests one after the other, ten in a second, until somebody asks what came of them.
pub struct EchoStream {
    ended: Arc<AtomicBool>,
    thread: std::thread::JoinHandle<Vec<bool>>,
}

/// What came of a stream of echo requests.
pub struct EchoLoss {
    /// How many had no answer.
    pub lost: u32,
    /// The longest time without an answer.
    pub longest: Duration,
}

/// Between two of them.
const BETWEEN_ECHOES: Duration = Duration::from_millis(100);

impl EchoStream {
    /// Begins.
    ///
    /// # Errors
    /// When there is no socket.
    pub fn begin(from: &Room, to: IpAddr) -> io::Result<EchoStream> {
        let fd = from.run(move || echo_socket(None, to))?;
        let ended = Arc::new(AtomicBool::new(false));
        let told = ended.clone();
        let id = number();
        let thread = std::thread::spawn(move || {
            let mut answered = Vec::new();
            while !told.load(Ordering::Relaxed) {
                let next = Instant::now() + BETWEEN_ECHOES;
                answered.push(false);
                // A host or a gateway that refuses it loses it.
                let _ = send_echo(&fd, to, id, u16::try_from(answered.len() - 1).unwrap_or(u16::MAX));
                gather(&fd, to, id, next, &mut answered);
            }
            gather(&fd, to, id, Instant::now() + PATIENCE, &mut answered);
            answered
        });
        Ok(EchoStream { ended, thread })
    }

    /// Ends, and says what came of it.
    ///
    /// # Errors
    /// When the socket failed.
    pub fn end(self) -> io::Result<EchoLoss> {
        self.ended.store(true, Ordering::Relaxed);
        let answered = self.thread.join().map_err(|_| io::Error::other("the stream broke"))?;
        let longest = answered.split(|answered| *answered).map(<[bool]>::len).max().unwrap_or(0);
        let count = |lost: usize| u32::try_from(lost).unwrap_or(u32::MAX);
        Ok(EchoLoss { lost: count(answered.iter().filter(|answered| !**answered).count()), longest: BETWEEN_ECHOES * count(longest) })
    }
}

/// Notes the answers that come until then.
fn gather(fd: &OwnedFd, to: IpAddr, id: u16, until: Instant, answered: &mut [bool]) {
    loop {
        match next_answer(fd, to, id, until) {
            Ok(None) => return,
            Ok(Some(seq)) => answered.get_mut(usize::from(seq)).into_iter().for_each(|answer| *answer = true),
            // What a router says of one of them is no failure of the socket.
            Err(_) => {}
        }
    }
}

/// A TCP connection that carries data both ways.
///
/// # Errors
/// Where it stopped. Otherwise the source address that the other end saw.
pub fn tcp(from: &Room, to: Target<'_>, port: Option<u16>) -> Result<IpAddr, String> {
    let (own, target) = to.ports(port);
    let listener = to.room.run(move || TcpListener::bind(own)).map_err(|e| format!("cannot listen: {e}"))?;
    patient(&listener, PATIENCE * 3).map_err(|e| e.to_string())?;
    let server = std::thread::spawn(move || -> io::Result<(IpAddr, usize)> {
        let (mut stream, peer) = listener.accept()?;
        stream.set_read_timeout(Some(PATIENCE * 3))?;
        let mut data = Vec::new();
        (&mut stream).take(BULK as u64).read_to_end(&mut data)?;
        stream.write_all(&data)?;
        Ok((peer.ip(), data.len()))
    });
    let sent = from.run(move || -> Result<(), String> {
        let mut stream = TcpStream::connect_timeout(&target, PATIENCE * 2).map_err(|e| format!("cannot connect: {e}"))?;
        let broke = |e: io::Error| format!("connected, but data do not cross: {e}");
        stream.set_read_timeout(Some(PATIENCE * 3)).map_err(broke)?;
        stream.set_write_timeout(Some(PATIENCE * 3)).map_err(broke)?;
        let data: Vec<u8> = (0..BULK).map(|i| u8::try_from(i % 251).unwrap_or(0)).collect();
        stream.write_all(&data).map_err(broke)?;
        let mut back = vec![0; BULK];
        stream.read_exact(&mut back).map_err(broke)?;
        if back == data { Ok(()) } else { Err("data came back changed".to_owned()) }
    });
    if sent.is_err() {
        // Whoever listens still ends now, so that the next one can listen at this port.
        to.room.run(move || drop(TcpStream::connect_timeout(&own, PATIENCE)));
    }
    let served = server.join();
    sent?;
    let (peer, _) = served.map_err(|_| "the server broke".to_owned())?.map_err(|e| format!("the server saw nothing: {e}"))?;
    Ok(peer)
}

/// Sends the largest datagram that may not be fragmented, learning on the way how large that is; returns the path
/// MTU in bytes (RFC 1191, RFC 8201).
pub fn full_size(from: &Room, to: Target<'_>, port: Option<u16>) -> Result<u32, String> {
    let (own, target) = to.ports(port);
    let listener = to.room.run(move || UdpSocket::bind(own)).map_err(|e| e.to_string())?;
    patient(&listener, PATIENCE).map_err(|e| e.to_string())?;
    let (mtu, size) = from.run(move || discover(target)).map_err(|e| format!("no packet size got through: {e}"))?;
    let mut buffer = vec![0; 70_000];
    loop {
        match listener.recv_from(&mut buffer) {
            Ok((length, _)) if length == size => return Ok(mtu),
            Ok(_) => {}
            Err(_) => return Err(format!("a packet of {mtu} bytes, the size that the path is said to take, was lost")),
        }
    }
}

/// Sends datagrams of the path's size until the path takes one without complaint.
fn discover(target: SocketAddr) -> io::Result<(u32, usize)> {
    let socket = UdpSocket::bind(SocketAddr::new(if target.is_ipv4() { [0, 0, 0, 0].into() } else { IpAddr::from([0u16; 8]) }, 0))?;
    match target.is_ipv4() {
        true => set_ip_mtu_discover(&socket, Ipv4PathMtuDiscovery::DO)?,
        false => set_ipv6_mtu_discover(&socket, Ipv6PathMtuDiscovery::DO)?,
    }
    socket.connect(target)?;
    let mtu = |socket: &UdpSocket| if target.is_ipv4() { ip_mtu(socket) } else { ipv6_mtu(socket) };
    // Headers of IP and UDP.
    let room = |mtu: u32| (mtu as usize).saturating_sub(if target.is_ipv4() { 28 } else { 48 });
    for _ in 0..6 {
        let known = mtu(&socket)?;
        match socket.send(&vec![0x5a; room(known)]) {
            Ok(_) => {}
            // The host has learnt of a smaller path meanwhile.
            Err(error) if error.raw_os_error() == Some(90) => continue,
            Err(error) => return Err(error),
        }
        std::thread::sleep(Duration::from_millis(200));
        if mtu(&socket)? == known {
            return Ok((known, room(known)));
        }
    }
    Err(io::Error::other("the path MTU does not settle"))
}

/// Whether a datagram arrives, for one that perhaps must not.
pub fn arrives(from: &Room, to: Target<'_>, port: Option<u16>) -> io::Result<bool> {
    let (own, target) = to.ports(port);
    let listener = to.room.run(move || UdpSocket::bind(own))?;
    patient(&listener, ABSENCE)?;
    // An answer such as "no route" is as good as silence here.
    let _ = from.run(move || -> io::Result<usize> {
        let any: IpAddr = if target.is_ipv4() { [0, 0, 0, 0].into() } else { IpAddr::from([0u16; 8]) };
        UdpSocket::bind(SocketAddr::new(any, 0))?.send_to(b"this must not arrive", target)
    });
    let mut buffer = [0; 64];
    Ok(listener.recv_from(&mut buffer).is_ok())
}
