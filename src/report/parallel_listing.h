// Large listings as text, by all processors: pieces are rendered apart and written in order.
#pragma once

#include "report/output.h"
#include "study/listing.h"

namespace deeptrace::report {

/// True where it pays and changes nothing: much code, and no source lines among it (their texts are read once, by one).
bool lists_in_parallel(const study::ListingPlan& plan);

/// The same text as study::list into a listing_text sink gives. A few batches wait at most, so memory does not grow
/// with the listing.
void list_in_parallel(const study::ListingPlan& plan, Output& out, const Style& style);

}  // namespace deeptrace::report
