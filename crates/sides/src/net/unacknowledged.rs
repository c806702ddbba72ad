//! Bytes that this program has handed over to the system for sending and that nobody has acknowledged yet.
//!
//! A system takes some megabytes to be sent at once. On a narrow line, to count them as carried would show a file as done
//! that is hardly begun.

use std::collections::HashSet;
use std::fs;

/// How many there are, over all connections of this process.
#[must_use]
pub fn unacknowledged() -> u64 {
    let own = own_sockets();
    if own.is_empty() {
        return 0;
    }
    ["/proc/self/net/tcp", "/proc/self/net/tcp6"]
        .iter()
        .filter_map(|table| fs::read_to_string(table).ok())
        .map(|table| waiting(&table, &own))
        .sum()
}

/// The inodes of the sockets of this process.
fn own_sockets() -> HashSet<String> {
    let open = fs::read_dir("/proc/self/fd")
        .into_iter()
        .flatten()
        .flatten();
    open.filter_map(|entry| {
        let target = fs::read_link(entry.path()).ok()?;
        let inode = target
            .to_str()?
            .strip_prefix("socket:[")?
            .strip_suffix(']')?;
        Some(inode.to_owned())
    })
    .collect()
}

/// What waits in the connections of a table of the system's (proc_pid_net(5)) that belong to these sockets.
fn waiting(table: &str, own: &HashSet<String>) -> u64 {
    table
        .lines()
        .skip(1)
        .filter_map(|line| {
            let fields: Vec<&str> = line.split_whitespace().collect();
            let (queues, inode) = (fields.get(4)?, fields.get(9)?);
            let sent = queues.split(':').next()?;
            own.contains(*inode)
                .then(|| u64::from_str_radix(sent, 16).ok())?
        })
        .sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;
    use std::net::{TcpListener, TcpStream};

    #[test]
    fn what_waits_is_read_from_the_table() {
        let table = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n   0: 0100007F:1F90 0100007F:A1B2 01 0000000A:00000000 00:00000000 00000000  1000        0 4711 1\n   1: 0100007F:1F91 0100007F:A1B3 01 000000FF:00000000 00:00000000 00000000  1000        0 4712 1\n";
        let own = |inode: &str| HashSet::from([inode.to_owned()]);
        assert_eq!(waiting(table, &own("4711")), 10);
        assert_eq!(waiting(table, &own("4712")), 255);
        assert_eq!(waiting(table, &own("4713")), 0);
        assert_eq!(waiting("nonsense\nmore of it", &own("4711")), 0);
    }

    #[test]
    fn bytes_that_nobody_reads_are_not_counted_as_arrived() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let mut sender = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
        sender.set_nonblocking(true).unwrap();
        let (mut sent, piece) = (0, [0u8; 64 * 1024]);
        // Until neither end takes any more.
        while let Ok(more) = sender.write(&piece) {
            sent += more as u64;
        }
        let waits = unacknowledged();
        assert!(waits > 0 && waits <= sent, "{waits} of {sent}");
    }
}
