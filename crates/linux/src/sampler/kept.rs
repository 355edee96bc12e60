//! Files that are kept open: what is read tick after tick costs half as much so. How many there may be is bounded.

use std::io;

use super::Context;
use super::row::Row;

impl Row {
    /// How many files of it are kept open.
    pub(crate) fn keeps(&self) -> usize {
        self.kept.iter().flatten().count()
    }
}

impl Context {
    /// Half of the files that may be kept open are for those that run: they are read at every tick.
    pub(super) fn may_keep(&self, row: &Row) -> usize {
        if row.idle == 0 { self.most_kept } else { self.most_kept / 2 }
    }

    pub(super) fn close(&mut self, row: &mut Row) {
        self.kept -= row.keeps();
        row.kept = [None, None, None];
    }

    /// `statm` (1) or `status` (2). What was read at the tick before is kept open for the next.
    pub(super) fn kept_or_of(&mut self, row: &mut Row, which: usize) -> io::Result<&[u8]> {
        let name = ["stat", "statm", "status"][which];
        let now = self.tick as u8;
        let again = now.wrapping_sub(std::mem::replace(&mut row.read_at[which - 1], now)) == 1;
        if row.speaker != 0 {
            // Of another thread now.
            self.kept -= usize::from(row.kept[which].take().is_some());
            return self.reader.of(row.pid, &row.file(name));
        }
        let may_keep = again && row.known && self.kept < self.may_keep(row);
        match &mut row.kept[which] {
            Some(file) => self.reader.again(file),
            none if may_keep => {
                let file = self.reader.open(row.pid, name)?;
                self.kept += 1;
                self.reader.again(&*none.insert(file))
            }
            _ => self.reader.of(row.pid, &row.file(name)),
        }
    }
}
