//! What is done when a person or the system asks this process to end: one handler for all who have to stop something.

use std::sync::{Mutex, Once, PoisonError};

type Stop = Box<dyn Fn() + Send>;

static STOPS: Mutex<Vec<Stop>> = Mutex::new(Vec::new());
static HANDLED: Once = Once::new();

/// Has something stopped as well when the process is asked to end.
pub fn on_end(stop: impl Fn() + Send + 'static) {
    STOPS.lock().unwrap_or_else(PoisonError::into_inner).push(Box::new(stop));
    HANDLED.call_once(|| {
        // Where no handler can be set, the system ends us at once, and our guard what we started.
        let _ = ctrlc::set_handler(|| {
            STOPS.lock().unwrap_or_else(PoisonError::into_inner).iter().for_each(|stop| stop());
        });
    });
}
