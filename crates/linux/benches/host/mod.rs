//! What a virtual machine's host does to what is measured on it.

/// What the machine's host has taken of the cores, clock ticks (`/proc/stat`, `steal`).
pub fn stolen() -> u64 {
    let text = std::fs::read_to_string("/proc/stat").unwrap();
    text.lines().next().and_then(|all| all.split_whitespace().nth(8)?.parse().ok()).unwrap()
}
