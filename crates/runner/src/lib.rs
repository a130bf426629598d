//! Scanning, planning, queue, executing: ties recipe, media and store together.
