//! What all sides of a trial share: the world, and the end of the process that runs in it.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use tokio::sync::Notify;

use crate::world::World;

/// What all sides of a trial share.
#[derive(Clone)]
pub struct Shared {
    /// The world.
    pub world: Arc<Mutex<World>>,
    /// Told when the process dies.
    pub died: Arc<Notify>,
}

impl Shared {
    /// The world, for as long as one looks at it.
    pub fn world(&self) -> MutexGuard<'_, World> {
        self.world.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The process dies: nothing after this is ever done.
    pub async fn die(&self) {
        self.world().mischief.dead = true;
        self.died.notify_one();
        std::future::pending::<()>().await;
    }
}
