//! Whoever takes over a helper behind the fence: he tries everything, and nothing comes of it.

use std::net::{TcpListener, TcpStream, ToSocketAddrs};
use std::os::linux::net::SocketAddrExt;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{SocketAddr, UnixDatagram};
use std::process::Command;

use rustix::process::{Pid, Signal, kill_process};
use rustix::thread::set_thread_uid;
use sophron_linux::fence::Fence;

/// A user without rights, whom every machine has.
const NOBODY: (u32, u32) = (65_534, 65_534);

/// In a process of its own, since there is no way back; its two ports are told in the environment.
#[test]
fn whoever_takes_it_over_can_do_next_to_nothing() {
    let (ours, others) = (TcpListener::bind("127.0.0.1:0").unwrap(), TcpListener::bind("127.0.0.1:0").unwrap());
    let ports = [&ours, &others].map(|listener| listener.local_addr().unwrap().port().to_string());
    let abstract_name = format!("sophron-fence-{}", std::process::id());
    let _abstract = UnixDatagram::bind_addr(&SocketAddr::from_abstract_name(&abstract_name).unwrap()).unwrap();
    // Open to everybody, as far as owners and modes go.
    let folder = tempfile::tempdir().unwrap();
    std::fs::set_permissions(folder.path(), PermissionsExt::from_mode(0o777)).unwrap();
    std::fs::write(folder.path().join("rules.toml"), "format = 1\n").unwrap();
    let mut inside = Command::new(std::env::current_exe().unwrap());
    inside.args(["--exact", "fence::inside", "--ignored", "--nocapture", "--test-threads=1"]);
    inside.env("OURS", &ports[0]).env("OTHERS", &ports[1]).env("ABSTRACT", abstract_name).env("FOLDER", folder.path());
    let output = inside.output().unwrap();
    let said = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success() && said.contains("1 passed"), "{said}");
    if said.contains("not fenced") {
        println!("skipped in part: {said}");
    }
}

#[test]
#[ignore = "the other test starts it in a process of its own"]
fn inside() {
    let told = |name: &str| std::env::var(name).unwrap();
    let port = |name: &str| told(name).parse::<u16>().unwrap();
    let (ours, others, folder) = (port("OURS"), port("OTHERS"), std::path::PathBuf::from(told("FOLDER")));
    let victim = Pid::from_raw(std::os::unix::process::parent_id().cast_signed()).unwrap();
    let user = sophron_linux::here::is_root().then_some(NOBODY);
    let unfenced = Fence { user, resolves: true, port: Some(ours), ..Fence::default() }.enter().unwrap();
    // Rights.
    assert!(set_thread_uid(rustix::process::Uid::ROOT).is_err(), "root again");
    assert!(
        kill_process(victim, Signal::CONT).is_err() || user.is_none() && unfenced.is_some(),
        "signalled whoever started it"
    );
    assert!(std::fs::read("/etc/shadow").is_err());
    if let Some(unfenced) = unfenced {
        println!("not fenced: {unfenced}");
        return;
    }
    // Files: what finding an address takes can be read, and nothing else.
    assert!(std::fs::read("/etc/hosts").is_ok());
    let rules = folder.join("rules.toml").display().to_string();
    for path in [rules.as_str(), "/etc/passwd", "/proc/self/environ", "/root", "/usr/bin/env"] {
        let error = std::fs::File::open(path).map(drop).unwrap_err();
        assert_eq!(error.kind(), std::io::ErrorKind::PermissionDenied, "{path}");
    }
    assert!(std::fs::write(folder.join("x"), "x").is_err() && std::fs::create_dir(folder.join("y")).is_err());
    assert!(std::fs::write("/dev/null", "x").is_err());
    assert!(Command::new("/bin/true").status().is_err(), "started a program");
    // The network: to where it is for, and to where names are asked for.
    assert!(TcpStream::connect(("127.0.0.1", ours)).is_ok());
    let refused = |done: std::io::Result<()>| done.unwrap_err().kind() == std::io::ErrorKind::PermissionDenied;
    assert!(refused(TcpStream::connect(("127.0.0.1", others)).map(drop)), "connected elsewhere");
    assert!(refused(TcpListener::bind("127.0.0.1:0").map(drop)), "listens");
    assert!(
        !TcpStream::connect(("127.0.0.1", 53)).is_err_and(|error| error.kind() == std::io::ErrorKind::PermissionDenied)
    );
    assert!("localhost:80".to_socket_addrs().is_ok_and(|mut addresses| addresses.next().is_some()));
    let abstract_name = SocketAddr::from_abstract_name(told("ABSTRACT")).unwrap();
    assert!(UnixDatagram::unbound().unwrap().connect_addr(&abstract_name).is_err(), "to a socket without a file");
}
