//! Names are held once: many processes have the same, and the watcher and its lookback look at the same processes.

use std::collections::HashSet;
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

use sophron_core::model::Names;

/// So many may be held that nobody has any more.
const LEFT_OVER: usize = 256;

static HELD: LazyLock<Mutex<Held>> = LazyLock::new(Mutex::default);

#[derive(Debug, Default)]
struct Held {
    names: HashSet<Arc<Names>>,
    /// How many there are when it is looked next which of them nobody has any more.
    look_at: usize,
}

/// The same, as others have it.
pub(super) fn shared(names: &mut Arc<Names>) {
    let mut held = HELD.lock().unwrap_or_else(PoisonError::into_inner);
    match held.names.get(&**names) {
        Some(known) => *names = Arc::clone(known),
        None => {
            held.names.insert(Arc::clone(names));
        }
    }
    if held.names.len() >= held.look_at {
        held.names.retain(|names| Arc::strong_count(names) > 1);
        held.look_at = held.names.len() + LEFT_OVER;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn equal_names_are_one_and_what_nobody_has_is_let_go() {
        let of = |number: usize| Arc::new(Names { name: format!("seedmill-{number}"), ..Names::default() });
        let (mut one, mut other) = (of(0), of(0));
        shared(&mut one);
        shared(&mut other);
        assert!(Arc::ptr_eq(&one, &other));
        (0..3000).for_each(|number| shared(&mut of(number)));
        let held = HELD.lock().unwrap().names.len();
        assert!(held < 1000, "{held} are held");
    }
}
