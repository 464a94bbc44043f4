//! What all fuzz targets hold: parsing takes at most eight times what was read and 1 MiB.

use peak_alloc::PeakAlloc;

#[global_allocator]
static ALLOCATOR: PeakAlloc = PeakAlloc;

/// Parses an input of this many bytes, and panics where that takes more memory than it may.
pub fn bounded<T>(bytes: usize, parse: impl FnOnce() -> T) -> T {
    let before = ALLOCATOR.current_usage();
    ALLOCATOR.reset_peak_usage();
    let parsed = parse();
    let taken = ALLOCATOR.peak_usage().saturating_sub(before);
    assert!(taken <= 8 * bytes + (1 << 20), "{taken} bytes of memory for {bytes} bytes");
    parsed
}
