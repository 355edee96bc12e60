//! What groups have counted.

use std::time::Duration;

use sophron_core::judge::counted::Counted;
use sophron_core::model::Boot;
use sophron_core::model::{Field, Process, ProcessId};
use sophron_core::window::{Keep, Spec};

const SECOND: Duration = Duration::from_secs(1);

fn of(pid: u32, moved: u64, age: u64) -> Process {
    let mut process = Process::unread(ProcessId { pid, start: u64::from(pid), boot: Boot(1) });
    process.age = Duration::from_secs(age);
    process.counts.set_disk(Some((moved, 0)));
    process
}

/// What somebody has counted before he came is not the group's; what he counted and took with him is.
#[test]
fn members_come_and_go() {
    let spec = Spec { field: Field::DiskRead, window: None, keep: Keep::Count };
    let mut counted = Counted::of(&[spec]).remove(0);
    let mut tick = |members: &[Process], at_border: bool| {
        let members: Vec<&Process> = members.iter().collect();
        counted.go_on(&members, at_border, SECOND);
        counted.now(&members)
    };
    assert_eq!(tick(&[of(1, 5000, 900)], true), Some(0));
    assert_eq!(tick(&[of(1, 5100, 901)], false), Some(100));
    // Born since the last sample, and gone before the next border: all of it counts.
    assert_eq!(tick(&[of(1, 5100, 902), of(2, 40, 1)], false), Some(140));
    assert_eq!(tick(&[of(1, 5100, 903), of(2, 70, 2)], false), Some(170));
    assert_eq!(tick(&[of(1, 5100, 904)], false), Some(170));
    // Whoever comes from elsewhere begins with what he has.
    assert_eq!(tick(&[of(1, 5100, 905), of(3, 8000, 700)], false), Some(170));
    assert_eq!(tick(&[of(1, 5200, 906), of(3, 8001, 701)], true), Some(271));
    assert_eq!(tick(&[of(1, 5200, 907)], false), Some(271));
    // Of whom nothing can be read the group does not know.
    let mut unread = of(1, 0, 908);
    unread.counts = sophron_core::model::Counts::UNKNOWN;
    assert_eq!(tick(&[unread], false), None);
}
