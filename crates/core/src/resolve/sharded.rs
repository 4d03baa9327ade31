//! What several threads note together.

use std::hash::{BuildHasher, Hash};
use std::sync::{Mutex, PoisonError};

use rustc_hash::{FxBuildHasher, FxHashMap};

use crate::let_go::let_go;

const SHARDS: usize = 32;

/// Values by key, in so many parts that threads seldom wait for each other.
pub(super) struct Sharded<K, V>([Mutex<FxHashMap<K, V>>; SHARDS]);

impl<K, V> Default for Sharded<K, V> {
    fn default() -> Self {
        Self(std::array::from_fn(|_| Mutex::default()))
    }
}

impl<K: Hash + Eq, V: Clone> Sharded<K, V> {
    fn shard(&self, key: &K) -> &Mutex<FxHashMap<K, V>> {
        let hash = FxBuildHasher.hash_one(key);
        &self.0[(hash >> 40) as usize % SHARDS]
    }

    pub(super) fn get(&self, key: &K) -> Option<V> {
        self.shard(key).lock().unwrap_or_else(PoisonError::into_inner).get(key).cloned()
    }

    pub(super) fn insert(&self, key: K, value: V) {
        self.shard(&key).lock().unwrap_or_else(PoisonError::into_inner).insert(key, value);
    }

    /// Drops them on all threads.
    pub(super) fn let_go(self)
    where
        K: Send,
        V: Send,
    {
        let_go(self.0.into());
    }
}
