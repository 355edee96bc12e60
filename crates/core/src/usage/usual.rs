//! What is usual of an app on this machine: the medians of all hours in which it was there. `typical(field)` in conditions reads it.

use std::collections::HashMap;

use super::rows::AppHour;
use crate::model::Field;
use crate::units::Value;

/// Of an app that was there for fewer hours nothing is usual yet: a working day.
const LEAST: usize = 8;

/// The fields of which a history tells, in the order in which they are kept.
const FIELDS: [Field; 4] = [Field::Cpu, Field::MemoryHeld, Field::DiskRead, Field::DiskWrite];

/// The figures of one app: all its processes together, and one of them.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Figures {
    whole: [f64; FIELDS.len()],
    single: [f64; FIELDS.len()],
}

/// What is usual of each app.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Usual {
    apps: HashMap<String, Figures>,
}

impl Usual {
    /// Whether a history can tell what is usual of that field.
    pub fn knows(field: Field) -> bool {
        FIELDS.contains(&field)
    }

    /// The fields of which it can be told.
    pub fn fields() -> String {
        FIELDS.map(Field::name).join(", ")
    }

    /// What is usual of an app: of all its processes together, or of one of them. `None` where nothing is known of that.
    pub fn value(&self, app: &str, field: Field, whole: bool) -> Option<Value> {
        let place = FIELDS.iter().position(|known| *known == field)?;
        let figures = self.apps.get(app)?;
        let number = if whole { figures.whole[place] } else { figures.single[place] };
        Some(field.kind().of_number(number))
    }
}

/// Takes hours in, in any order.
#[derive(Debug, Default)]
pub struct Gathering {
    apps: HashMap<String, Vec<[f32; FIELDS.len() + 1]>>,
}

impl Gathering {
    /// One hour of an app.
    pub fn add(&mut self, app: &str, hour: &AppHour) {
        if hour.seconds <= 0.0 {
            return;
        }
        let rate = |sum: f64| (sum / hour.seconds) as f32;
        let figures = [
            100.0 * rate(hour.accounted()),
            hour.held as f32,
            rate(hour.read),
            rate(hour.written),
            hour.most.max(1) as f32,
        ];
        match self.apps.get_mut(app) {
            Some(hours) => hours.push(figures),
            None => {
                self.apps.insert(app.to_owned(), vec![figures]);
            }
        }
    }

    /// What is usual.
    pub fn finish(self) -> Usual {
        let figures = |hours: Vec<[f32; FIELDS.len() + 1]>| {
            let median = |of: &dyn Fn(&[f32; FIELDS.len() + 1]) -> f32| {
                let mut of: Vec<f32> = hours.iter().map(of).collect();
                let middle = of.len() / 2;
                f64::from(*of.select_nth_unstable_by(middle, f32::total_cmp).1)
            };
            let each = |single: bool| {
                std::array::from_fn(|place| {
                    median(&|hour| if single { hour[place] / hour[FIELDS.len()] } else { hour[place] })
                })
            };
            Figures { whole: each(false), single: each(true) }
        };
        let enough = self.apps.into_iter().filter(|(_, hours)| hours.len() >= LEAST);
        Usual { apps: enough.map(|(app, hours)| (app, figures(hours))).collect() }
    }
}
