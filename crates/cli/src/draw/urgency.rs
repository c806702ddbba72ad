//! In which order a person should see what is not settled.

use katabatic_core::Agreement;

/// What a person should see first.
pub fn urgency(agreement: Agreement) -> u8 {
    match agreement {
        Agreement::Conflict | Agreement::KeptBack => 0,
        Agreement::Stuck => 1,
        Agreement::Asking(_) => 2,
        Agreement::Drift => 3,
        Agreement::Moving(_) => 4,
        Agreement::Waiting(_) => 5,
        Agreement::LeftOut => 6,
        Agreement::Settled => 7,
    }
}
