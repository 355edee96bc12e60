//! Means of minutes: a median of them is not moved by a moment.

/// Mean of what is measured in one minute, and those of the minutes before it.
#[derive(Debug, Clone, Default)]
pub(super) struct Minutes {
    pub minute: i64,
    sum: f64,
    pub seconds: f64,
    means: Vec<f32>,
}

impl Minutes {
    /// With nothing in that minute yet.
    pub fn begun(minute: i64) -> Minutes {
        Minutes { minute, ..Minutes::default() }
    }

    /// The mean of the present minute.
    pub fn present(&self) -> Option<f64> {
        (self.seconds > 0.0).then(|| self.sum / self.seconds)
    }

    pub fn add(&mut self, minute: i64, value: f64, seconds: f64) {
        if minute != self.minute {
            self.close();
            self.minute = minute;
        }
        self.sum += value * seconds;
        self.seconds += seconds;
    }

    fn close(&mut self) {
        self.means.extend(self.present().map(|mean| mean as f32));
        (self.sum, self.seconds) = (0.0, 0.0);
    }

    pub fn median(&self) -> Option<f64> {
        let open = self.present().map(|mean| mean as f32);
        let mut means: Vec<f32> = self.means.iter().copied().chain(open).collect();
        let middle = means.len() / 2;
        let (_, median, _) = (!means.is_empty()).then(|| means.select_nth_unstable_by(middle, f32::total_cmp))?;
        Some(f64::from(*median))
    }
}
