#pragma once

#include "session/session.h"

namespace pinion {

/// Puts the text of a deliverable on the clipboard, in a job: that of a long plate's tracks takes a second to write.
void startCopy(Session& session, const Shot& shot, const Deliverable& deliverable);

}  // namespace pinion
