//! How large the parts of an exFAT volume are.
//!
//! Source: Microsoft, exFAT file system specification, section 3.1.

use crate::bytes::MIB;

/// Sectors of a boot region, section 3; a second one lies behind the first.
pub(super) const REGION: u32 = 12;
/// Volumes are no smaller, section 3.1.5.
const LEAST: u64 = MIB;
/// Clusters are no larger, section 3.1.15.
const CLUSTER_BYTES_MOST: u64 = 32 * MIB;
/// Clusters are no more, so that the bitmap has 8 MiB at most; section 3.1.9 would allow 2^32 - 11.
const CLUSTERS_MOST: u32 = 1 << 26;
/// The first cluster there is.
pub(super) const FIRST: u32 = 2;

/// What the volume is to be.
#[derive(Clone, Copy, Debug)]
pub(in crate::compose) struct ExfatVolume<'a> {
    /// Length in bytes.
    pub bytes: u64,
    pub sector_bytes: u32,
    /// Sectors that lie before it on the drive.
    pub hidden: u64,
    pub label: &'a str,
    pub serial: u32,
}

/// Bytes of a cluster: as systems choose them, and few enough for any size.
fn cluster_bytes(bytes: u64) -> u64 {
    const GIB: u64 = 1 << 30;
    match bytes {
        _ if bytes <= 256 * MIB => 4 << 10,
        _ if bytes <= 32 * GIB => 32 << 10,
        _ if bytes <= 512 * GIB => 128 << 10,
        // A drive may claim any size: the clusters grow with it, and do not become more and more.
        _ => bytes.div_ceil(CLUSTERS_MOST.into()).next_power_of_two().clamp(256 << 10, CLUSTER_BYTES_MOST),
    }
}

/// Where what lies: sectors for the table and the heap, clusters behind that.
pub(super) struct ExfatShape {
    pub sector: u64,
    pub cluster: u64,
    pub sectors: u64,
    pub table_at: u64,
    pub table_sectors: u64,
    pub heap_at: u64,
    pub clusters: u32,
}

impl ExfatShape {
    /// `None` where the volume is too small or too large for exFAT.
    pub(super) fn of(volume: &ExfatVolume<'_>) -> Option<Self> {
        let sector = u64::from(volume.sector_bytes);
        let cluster = cluster_bytes(volume.bytes).max(sector);
        let sectors = volume.bytes.checked_div(sector)?;
        let align =
            if volume.bytes >= 512 * MIB { MIB.checked_div(sector)? } else { cluster.checked_div(sector)? }.max(1);
        let table_at = u64::from(REGION).checked_mul(2)?.checked_next_multiple_of(align)?;
        let most = volume.bytes.checked_div(cluster)?;
        let table_sectors = most.checked_add(2)?.checked_mul(4)?.div_ceil(sector);
        let heap_at = table_at.checked_add(table_sectors)?.checked_next_multiple_of(align)?;
        let per_cluster = cluster.checked_div(sector)?;
        let clusters = sectors.checked_sub(heap_at)?.checked_div(per_cluster)?;
        let clusters = u32::try_from(clusters).ok().filter(|clusters| *clusters <= CLUSTERS_MOST)?;
        (volume.bytes >= LEAST).then_some(Self { sector, cluster, sectors, table_at, table_sectors, heap_at, clusters })
    }

    /// Clusters that so many bytes take.
    pub(super) fn clusters_of(&self, bytes: usize) -> u32 {
        u32::try_from((bytes as u64).div_ceil(self.cluster.max(1))).unwrap_or(u32::MAX)
    }

    /// Where a cluster lies, in bytes.
    pub(super) fn cluster_at(&self, cluster: u32) -> u64 {
        let before = u64::from(cluster.saturating_sub(FIRST)).saturating_mul(self.cluster);
        self.heap_at.saturating_mul(self.sector).saturating_add(before)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn clusters_are_few_and_small_enough_whatever_size_a_drive_claims() {
        for bytes in (20..64).flat_map(|power| [(1 << power) - 1, 1 << power, (1 << power) + (1 << power) / 3]) {
            let volume = ExfatVolume { bytes, sector_bytes: 512, hidden: 0, label: "", serial: 1 };
            match ExfatShape::of(&volume) {
                Some(shape) => {
                    let is_bounded = shape.clusters <= CLUSTERS_MOST && shape.cluster <= CLUSTER_BYTES_MOST;
                    assert!(is_bounded && shape.clusters > 0, "{bytes}: {} of {}", shape.clusters, shape.cluster);
                }
                None => assert!(!(LEAST..=1 << 51).contains(&bytes), "{bytes} bytes are refused"),
            }
        }
        let [tb, pb] = [1_000_000_000_000, 1_000_000_000_000_000];
        assert_eq!([tb, 16 * tb, 562 * tb, 2 * pb].map(cluster_bytes), [256 << 10, 256 << 10, 8 * MIB, 32 * MIB]);
    }
}
