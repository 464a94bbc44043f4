//! Reading long text from outside beside the threads that answer everything else.

/// Bytes that are read where they are at hand: that takes less than a millisecond.
const AT_HAND: usize = 64 << 10;

/// Reads what came from outside; where it is longer than 64 KiB, on a thread of its own.
pub async fn parse<T, S>(text: S, read: impl FnOnce(&S) -> T + Send + 'static) -> T
where
    T: Send + 'static,
    S: AsRef<[u8]> + Send + 'static,
{
    if text.as_ref().len() <= AT_HAND {
        return read(&text);
    }
    match tokio::task::spawn_blocking(move || read(&text)).await {
        Ok(parsed) => parsed,
        // Nobody stops it: it panicked.
        Err(error) => std::panic::resume_unwind(error.into_panic()),
    }
}

#[cfg(test)]
mod tests {
    use std::thread;

    use super::*;

    #[tokio::test]
    async fn only_long_text_leaves_the_thread() {
        let here = thread::current().id();
        let on =
            |bytes: usize| parse("x".repeat(bytes), |text| (thread::current().id(), text.len()));
        assert_eq!(on(AT_HAND).await, (here, AT_HAND));
        let (elsewhere, length) = on(AT_HAND + 1).await;
        assert!(elsewhere != here && length == AT_HAND + 1);
    }
}
