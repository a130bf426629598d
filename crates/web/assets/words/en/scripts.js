// What the scripts say in English, in the syntax of Fluent (projectfluent.org), by the part of the program that says it.

export default `
## any: said in several places

any-frames = { $count ->
    [one] { $count } frame
   *[other] { $count } frames
  }
any-pictures = { $count ->
    [one] { $count } picture
   *[other] { $count } pictures
  }
any-folders = { $count ->
    [one] { $count } folder
   *[other] { $count } folders
  }
any-kb = { $bytes } kB
any-mb = { $bytes } MB
any-put-the-results-here = Put the results here
any-as-it-is = as it is
any-pause = Pause
any-play = Play
any-left = , { $time } left
any-a-first-guess = a first guess
any-iso = ISO { $iso }
any-done = Done
any-stop = Stop
any-close = Close
any-earlier = Earlier
any-switch-on = Switch on
any-switch-off = Switch off
any-remove = Remove
any-not-saved = not saved
any-esc = (Esc)
any-set-aside = Set aside

## app

app-the-program-does-not-answer-is = The program does not answer. Is it still running? What you did is kept on this page; it goes on when the program is back.
app-about-seconds = { $seconds ->
    [one] about a second
   *[other] about { $seconds } seconds
  }
app-about-minutes = { $minutes ->
    [one] about a minute
   *[other] about { $minutes } minutes
  }
app-about-hours = about { $hours } hours
app-was-not-taken-in-the-program = { $name } was not taken in: the program does not answer
app-given-up = given up
app-on = { $name } on { any-pictures }
app-results-as-a-zip-from-the = Results: as a ZIP, from the run’s page.
app-bringing-of = Bringing { $i } of { $count } …
app-are-here = { $good } are here{ $bad }.
app-not-taken-in = { $bad ->
    [one] , { $bad } was not taken in
   *[other] , { $bad } were not taken in
  }
app-none-of-these-could-be-taken = None of these could be taken in.
app-results-into = Results: into { $path }.
app-does-not-fit = { $name }: { $value } does not fit
app-open = Open { $what }
app-open-folders-and-pictures = Open { $folders } and { $pictures }
app-open-this-folder = Open this folder
app-open-this-folder-with = Open this folder ({ any-pictures })
app-taking-them-out = Taking them out …
app-frames-this-may-take-a-while = { any-frames }, { $width } × { $height }: this may take a while.
app-frames-were-taken-out = { $count ->
    [one] One frame was taken out.
   *[other] { $count } frames were taken out.
  }
app-take-its-frames-out = Take its frames out
app-position = Position
app-space = (Space)
app-frames-a-second = Frames a second
app-a-second = { $r } a second
app-of-frame-of = { $time } of { $time2 }, frame { $at } of { $count }
app-the-page-cannot-be-drawn-anew = The page cannot be drawn anew; load it again.
app-run-waits-for-your-yes = Run { $run } waits for your yes
app-run-is-paused = Run { $run } is paused
app-waiting = { $waiting } waiting
app-nothing-waiting = nothing waiting
app-run-of = { $yes }Run { $run }: { $ended } of { $total }{ $left }{ $waiting }
app-waiting-waiting = , { $waiting } waiting
app-run-waits-for-your-yes-run-reason = Run { $run } waits for your yes. { $reason }
app-run-is-done-of = Run { $run } is done: { $done } of { $total }{ $failed }.
app-failed = , { $failed } failed
app-yes = Yes? – { $title }
app-version-of-it-is-newer-r = {" "}Version { $newer } of it is newer; R shows the sheet for that.
app-run-is-started-as-before = Run { $run } is started: { $recipe }, version { $version }, on { any-frames }, as in run { $like }.{ $newer }
app-not-started = Not started: { $message }
app-run-is-started = Run { $run } is started: { $recipe } on { any-frames }, into { $folder }.
app-and-more = {" "}and { $count } more
app-not-in-the-folders = { $count ->
    [one] { $names } does not lie in the folders this program may use. Folders are chosen with “Another folder …”.
   *[other] { $names } do not lie in the folders this program may use. Folders are chosen with “Another folder …”.
  }

## bench

bench-red = red
bench-green = green
bench-blue = blue
bench-words-for-reading = read, raw, profile, transparent, background, cut off, damaged, look
bench-add-to = add
bench-within = within
bench-without = without
bench-estimated = estimated
bench-measured-word = measured
bench-no-step-by-that-word-try = No step by that word. Try bright, warm, sharp, crop, smaller or logo.
bench-starts-from-the-values-you-used = { $title } starts from the values you used last; ↺ beside a value takes it back to its own.
bench-the-recipe-is-being-opened-is = The recipe is being opened; “{ $text }” is written down as soon as it is there.
bench-there-is-no-step-by-the = There is no step by the word { $unknown }.
bench-as-in-earlier-runs = as in earlier runs
bench-mp-to = { $source } MP to { $size } × { $size2 }
bench-a-picture-s = a picture: { $seconds } s{ $bytes }
bench-by-keys-arrows-enter-to-take = {" "}By keys: arrows, Enter to take hold and to let go, Esc to give up.
bench-drag-from-where-it-is-full = Drag from where it is full to where it ends.
bench-drag-from-the-middle-outwards = Drag from the middle outwards.
bench-paint-with-shift-it-takes-away = Paint; with Shift it takes away.
bench-click-on-something-that-should-be = Click on something that should be grey; the sensor tells the light.
bench-block-on = block { $name } on
bench-mix-of-block-per-cent = mix of block { $name }, per cent
bench-name-of-block = name of block { $name }
bench-from-version = from { $recipe }, version { $version }{" "}
bench-follow-it = {" "}follow it
bench-on-or-off = On or off
bench-mix = mix
bench-later-versions-of-are-taken-over = later versions of { $recipe } are taken over
bench-wait-for-a-yes = Wait for a yes: { $what }
bench-drag-sideways-type-or-use-the = {" "}Drag sideways, type, or use the arrow keys.
bench-recipe = recipe { $id }
bench-recipe-name = recipe: { $name }
bench-version = version { $id } { $version }
bench-version-version = version { $version }
bench-the-original = the original
bench-up-to-the-open-line = up to the open line
bench-without-the-open-line = without the open line
bench-gradient = Gradient
bench-ellipse = Ellipse
bench-range-of-brightness = Range of brightness
bench-range-of-colour = Range of colour
bench-painted = Painted
bench-paint-over-the-picture-with-shift = Paint over the picture; with Shift it takes away.
bench-of-the = { $name } of the { $kind }
bench-how-it-meets-what-stands-before = How it meets what stands before
bench-width-of-the-brush-per-cent = Width of the brush, per cent of the long edge
bench-brush = brush
bench-all-but-this = all but this
bench-draw = Draw
bench-take-this-shape-away = Take this shape away
bench-mark-at = Mark { $i } at { $mark } %
bench-drag-it-in-time-or-use = Drag it in time, or use the arrow keys
bench-mark = Mark { $chosen }, { $label }
bench-is-no-number = { $label }: { $value } is no number
bench-mark-chosen = Mark { $chosen }
bench-there-is-no-sample-to-set = There is no sample to set it on; choose frames first.
bench-enlarged-times = , enlarged { $factor } times
bench-of-s-pixels-of-the-frame = { $now } of { $seconds } s: { $w } × { $h } pixels of the frame{ $large }. The sample stands for all frames.
bench-there-is-a-mark-at-that = There is a mark at that time; choose another on the line of time below.
bench-a-move-has-at-most-60 = A move has at most 60 marks.
bench-a-move-needs-at-least-one = A move needs at least one mark.
bench-colour-of = colour of { $name }
bench-drag-or-use-the-arrow-keys = { $about } Drag, or use the arrow keys; double-click or Delete takes the colour out.
bench-brightness-of = brightness of { $name }
bench-there-is-no-sample-to-look = There is no sample to look at; choose frames first.
bench-quality-for-the-size-that-may = , quality { $quality } for the size that may not be exceeded
bench-pixels-about-drag-to-move-both = { $size } × { $size2 } pixels, about { $size3 }{ $quality }. Drag to move; both sides move together.
bench-let-it-change-on-the-way = Let it change on the way …
bench-drag-points-double-click-to-add = { $name }: drag points, double-click to add one
bench-times-at-of-the-frames = { $factor } times at { $at } % of the frames
bench-the-same-all-the-way = The same all the way
bench-curve-drag-points-double-click-to = Curve: drag points, double-click to add one
bench-in-out = in { $x }, out { $y }
bench-point = Point { $i }
bench-ask-for-at-the-start-of = ask for { $name } at the start of a run
bench-do-not-wait = do not wait
bench-wait-for-a-yes-before-this = Wait for a yes before this line
bench-what-is-to-be-looked-at = What is to be looked at before a run goes on.
bench-no-block = no block
bench-block-this-line-belongs-to = Block this line belongs to
bench-neighbouring-lines-with-one-name-have = Neighbouring lines with one name have one switch and one mix.
bench-ask-at-start = ask at start
bench-wait-for-a-yes-more = wait for a yes
bench-block = block
bench-mix-typed = mix, typed
bench-how-much-of-the-result-replaces = How much of the result replaces what it was, per cent.
bench-always = always
bench-only-for-pictures-where = Only for pictures where
bench-such-as-iso-at-least-1600 = Such as: iso at least 1600 and not portrait. Of iso, shutter, aperture, focal length, width, height, megapixels, rating, camera, lens, name, keyword, taken from 18:00 to 6:00.
bench-only-where = only where
bench-only-in-an-area = Only in an area
bench-add-a-shape = add a shape …
bench-the-whole-picture = the whole picture
bench-area = area
bench-at-iso = { $name } at ISO { $iso }
bench-values-for-one-iso-between-two = Values for one ISO; between two they go evenly.
bench-another-iso = Another ISO
bench-values-per-iso = Values per ISO
bench-where-when-how-much = Where, when, how much
bench-its-values = Its values
bench-it-applies-to-all-deliveries-again = It applies to all deliveries again, as the last line
bench-back-to-all = back to all
bench-a-line-for-this-delivery-alone = A line for this delivery alone
bench-take-a-line-of-the-ticket = take a line of the ticket …
bench-lines-that-follow-the-recipes-here = Lines that follow the recipe’s here, and nowhere else.
bench-lines-of-its-own = lines of its own
bench-fold-it-up = Fold it up
bench-all-its-values = All its values
bench-delivery-all-its-values = Delivery { $i }, all its values
bench-as-the-file-will-be-beside = As the file will be, beside what it is without compression
bench-remove-delivery = Remove delivery { $i }
bench-build-the-name-more = Build the name …
bench-set-the-move = Set the move …
bench-marks = { $count ->
    [one] { $count } mark
   *[other] { $count } marks
  }
bench-deliver-also = Deliver also
bench-deliver-also-more = Deliver also …
bench-the-line-is-copied-paste-it = The line is copied; paste it into any recipe.
bench-remembered-for-all-later-pictures-that = Remembered for all later pictures that name this lens
bench-it-is-the = It is the { $name }
bench-tried = tried
bench-line = Line { $i }, { $title }
bench-leave-this-line-out = Leave this line out
bench-put-it-there = Put it there
bench-a-stand-in-noise-averages-out = A stand-in: noise averages out at this size. The true picture follows.
bench-at-this-size-noise-and-sharpness = At this size noise and sharpness cannot be judged.
bench-here = { $kept } here: { $found }.
bench-kept = Kept
bench-measured = Measured
bench-keep-for-all-frames = Keep for all frames
bench-no-frame-is-measured-any-more = No frame is measured any more; all get what was measured here
bench-measure-every-frame = Measure every frame
bench-each-frame-gets-what-is-measured = Each frame gets what is measured in it
bench-turn-into-ordinary-lines = Turn into ordinary lines
bench-the-values-stand-in-lines-of = The values stand in lines of their own and can be changed
bench-earlier-alt = Earlier (Alt + ↑)
bench-later-alt = Later (Alt + ↓)
bench-twice = Twice
bench-write-the-same-line-again = Write the same line again
bench-delete = Delete
bench-measure-this-lens = Measure this lens
bench-on-the-frames-of-this-shoot = On the frames of this shoot that were taken with it; kept for all later pictures
bench-show-the-result = Show the result
bench-kept-values = Kept values
bench-kept-values-more = kept values …
bench-no-values-kept-yet = no values kept yet
bench-a-name = a name
bench-name-for-these-values = Name for these values
bench-keep-these-values = Keep these values
bench-forget-the-values-of-that-name = Forget the values of that name
bench-forget = Forget
bench-looking-for-edges-in-the-frames = Looking for edges in the frames taken with this lens …
bench-lens-is-measured = { $lens }: { $middle } ‰ of the long edge in the middle, { $corner } ‰ in the corners, from { any-frames }.
bench-a-frame-is-found = A frame is found
bench-no-frames-in-this-folder = No frames in this folder
bench-there-is-no-picture-in-it = There is no picture in it that can be read; Frames says which files were left out.
bench-a-typical-frame = a typical frame
bench-more-typical = more typical …
bench-how-files-are-read = How files are read
bench-before-the-first-line = before the first line
bench-camera-raw-files-without-a-colour = Camera raw, files without a colour profile, transparent ones and those that are cut off
bench-pick-a-neutral-spot = Pick a neutral spot
bench-the-cameras-setting-in-numbers = The camera’s setting in numbers
bench-read-as-they-are-profiles-transparent = Read as they are: profiles, transparent and cut-off files.
bench-how-files-are-read-before-the = How files are read, before the first line
bench-off-the-ticket-only-tried = Off the ticket: only tried
bench-on-the-ticket-written-down = On the ticket: written down
bench-lines-marked-tried-are-not-written = Lines marked “tried” are not written down.
bench-nothing-is-tried-yet = Nothing is tried yet.
bench-take-in-a-recipe = Take in a recipe …
bench-saved = saved
bench-not-saved-yet = not saved yet
bench-black-white = { $clipped } % black, { $clipped2 } % white
bench-before-line = before line { $line }
bench-the-sequence-as-the-recipe-makes = The sequence as the recipe makes it
bench-compare-the-sequence = Compare the sequence
bench-after = After
bench-as-the-recipe-makes-it = As the recipe makes it
bench-side-by-side = Side by side
bench-untouched-on-the-left = Untouched on the left
bench-split = Split
bench-untouched-left-of-the-line-it = Untouched left of the line; it is dragged
bench-where-untouched-ends-per-cent = Where untouched ends, per cent
bench-measuring-of-frames-until-then-without = Measuring: { $measured } of { $count } frames. Until then without what is decided from all of them.
bench-of-frames-are-made = { $made } of { $count } frames are made.
bench-without-too-slow-for-a-look = Without { $leftout }, too slow for a look.
bench-or-start-from = or start from
bench-the-numbers = The numbers
bench-typed = { $name }, typed
bench-typed-name-name2 = { $name }, { $name2 }, typed
bench-a-file-of-kb-is-in = A file of { $count } kB is in the recipe.{" "}
bench-take-it-out = Take it out
bench-back-to = Back to { $default }
bench-nothing = nothing
bench-back-to-what-it-is-by = { $name } back to what it is by itself
bench-channel = Channel
bench-points-in-and-out = Points, in and out
bench-points-as-in-out-in-out = Points as in out, in out …
bench-points = points
bench-top-left = top left
bench-top-right = top right
bench-bottom-left = bottom left
bench-bottom-right = bottom right

## frames

frames-fact-problem = problem
frames-fact-folder = folder
frames-fact-note = note
frames-fact-place = place
frames-fact-format = format
frames-fact-profile = profile
frames-fact-file = file
frames-fact-clipped = clipped
frames-fact-keywords = keywords
frames-fact-camera = camera
frames-fact-lens = lens
frames-fact-taken = taken
frames-fact-exposure = exposure
frames-fact-pixels = pixels
frames-fact-measured = measured
frames-shifted = {" "}(shifted)
frames-column-taken = taken
frames-column-shutter = shutter
frames-column-aperture = aperture
frames-column-camera = camera
frames-column-lens = lens
frames-column-pixels = pixels
frames-column-type = type
frames-column-file = file
frames-column-rating = rating
frames-column-keywords = keywords
frames-column-brightness = brightness
frames-column-contrast = contrast
frames-column-sharpness = sharpness
frames-column-noise = noise
frames-column-folder = folder
frames-kept = kept
frames-from = from
frames-to = to
frames-there-is-nothing-to-take-back = There is nothing to take back.
frames-there-is-nothing-to-do-again = There is nothing to do again.
frames-show-all-frames-first-then-they = Show all frames first; then they can be put in order by hand.
frames-back-to-all-frames = Back to all frames
frames-show-all-again = Show all again
frames-selects-them-nothing-is-done-to = Selects them; nothing is done to them
frames-select = Select { $count } { $kind }
frames-measures = Measures
frames-focal-length = focal length
frames-mm = { $focallength } mm
frames-white-balance = white balance
frames-mp = { $width } × { $height }, { $width2 } MP
frames-bit = { $format }, { $bits } bit
frames-brightness-contrast-sharpness-noise = brightness { $brightness }, contrast { $contrast }, sharpness { $sharpness }, noise { $noise }
frames-black-white = black { $black } %, white { $white } %
frames-loop = Loop
frames-begin-again-at-the-end = Begin again at the end
frames-only-what-is-kept = Only what is kept
frames-leaves-out-frames-that-are-set = Leaves out frames that are set aside, and open ones where some are kept
frames-gather-into-this-folder = Gather into this folder
frames-set-aside = set aside
frames-no-picture = no picture
frames-select-for-a-run-space = Select for a run (Space)
frames-rating = rating { $rating }
frames-the-camera-writes-in-here = The camera writes in here
frames-sidecars-written = { $count ->
    [one] { $count } sidecar written.
   *[other] { $count } sidecars written.
  }
frames-sidecars-read = { $count ->
    [one] { $count } sidecar read.
   *[other] { $count } sidecars read.
  }
frames-name = name
frames-choice = choice
frames-which-columns = Which columns
frames-columns = Columns …
frames-columns-of-the-list = Columns of the list
frames-in-selections-stand-under-more = In “{ $name }”. Selections stand under More.
frames-of-its-frames-are-not-there = { $missing } of its frames are not there any more.
frames-not-decided = not decided
frames-select-two-to-four-frames-first = Select two to four frames first (Space), then look at them side by side.
frames-only-the-first-four-of-the = Only the first four of the selected frames are shown side by side.
frames-fit = Fit
frames-close-c = Close (C)
frames-seconds-a-frame = Seconds a frame
frames-before = Before (←)
frames-next = Next (→)
frames-keep = Keep
frames-of-at-count = { $at } of { $count }
frames-slide-show = Slide show
frames-s-each = s each
frames-name-more = Name
frames-name-on-or-off-n = Name on or off (N)
frames-looking = Looking …
frames-frames-appear-as-they-are-found = Frames appear as they are found.
frames-no-frame-fits = No frame fits
frames-nothing-has-all-of-these-together = Nothing has all of these together. Take some of the wishes on the left back.
frames-no-pictures-here = No pictures here
frames-there-is-nothing-in-the-chosen = There is nothing in the chosen folders that can be read as a picture.
frames-files-were-left-out = { $count ->
    [one] One file was left out; “More” on the left says why.
   *[other] { $count } files were left out; “More” on the left says why.
  }
frames-of-frames = { $shown } of { any-frames }
frames-selected = { $size } selected
frames-looking-for-more = looking for more
frames-measuring = measuring { $unmeasured }
frames-left-out = { $left } left out
frames-this-frame-cannot-be-read-choose = This frame cannot be read; choose another one.
frames-rate-0-takes-it-away = Rate { $n } ({ $n }); 0 takes it away
frames-rate = Rate { $n }
frames-nothing-would-be-moved = Nothing would be moved.

## proof

proof-own = Own: { $own }
proof-of-accepted = { $count } of { $count2 } accepted
proof-all-accepted = All { $count } accepted
proof-before = { $name } before
proof-after = { $name } after
proof-accepted = Accepted ✓
proof-accept = Accept
proof-of-alone = { $label } of { $name } alone
proof-leave-this-frame-out-of-the = Leave this frame out of the work
proof-is-set-aside-z-in-frames = { $name } is set aside; Z in Frames takes that back.
proof-open-on-the-bench = Open on the bench
proof-go-on-recording-on-this-frame = Go on recording on this frame
proof-only-here = only here:
proof-stops-brighter-for-this-frame-alone = Stops brighter, for this frame alone
proof-crop-right = crop right
proof-the-crop-moved-to-the-right = The crop moved to the right, hundredths of the width
proof-crop-down = crop down
proof-the-crop-moved-down-hundredths-of = The crop moved down, hundredths of the height
proof-there-are-no-frames-yet-choose = There are no frames yet: choose some in Frames.

## recipes

recipes-loaded = Loaded
recipes-was-not-loaded = { $name } was not loaded
recipes-version-is-the-newest-again-the = Version { $back } is the newest again; the ones between are kept.
recipes-really-remove-it-with-its-versions = Really remove it, with its versions
recipes-start-from = Start from …

## runs

runs-values-of-its-own = values of its own
runs-all-pictures = all pictures
runs-values-for = Values for { $whose }
runs-the-clip = the clip
runs-the-clip-more = The clip
runs-a-stand-in-for-browsers-is = A stand-in for browsers is made once; the file itself is untouched.
runs-this-browser-does-not-play-the = This browser does not play the codec; a stand-in is made.
runs-frame = Frame
runs-over-and-over = Over and over
runs-frame-of = frame { $at } of { $count }, { $clock }
runs-a-frame-back = A frame back
runs-a-frame-on = A frame on
runs-the-browser-does-not-allow-it = The browser does not allow it for this page; its settings can change that.
runs-of-target-at-count = { $target } ({ $at } of { $count })
runs-remove-the-files-this-run-wrote = Remove the files this run wrote? Those that were changed since stay.
runs-files-are-gone = { $gone ->
    [one] { $gone } file is gone.{ $kept }
   *[other] { $gone } files are gone.{ $kept }
  }
runs-this-cannot-be-run-yet = This cannot be run yet
runs-kept-in-the-recipe-as-version = Kept in the recipe as version { $version }.

## sequence

sequence-until = {" "}to{" "}
sequence-brightness = brightness
sequence-contrast = contrast
sequence-unit-days = {" "}days
sequence-unit-hours = {" "}hours
sequence-in = in
sequence-outside = outside
sequence-of-area = {" "}of{" "}
sequence-set-aside-and-back = { $aside } set aside, { $back } back. Undo on the Frames page takes it back.
sequence-these-passes-are-already-there = These passes are already there.
sequence-there-is-no-night-no-fog = There is no night, no fog and nothing in the way to be told from the rest.
sequence-passes-are-suggested = { $count ->
    [one] { $count } pass suggested. Open it to see what it takes; change it, switch it off or remove it.
   *[other] { $count } passes suggested. Open each to see what it takes; change it, switch it off or remove it.
  }
sequence-no-pass-by-that-word-try = No pass by that word. Try dark, fog, hours, every or one a day.
sequence-what-it-is-called = What it is called
sequence-name-of-area = Name of area { $name }
sequence-move-with-the-arrow-keys-with = Move { $name } with the arrow keys, with Shift its size; or with the mouse on the picture
sequence-measure-no-longer = Measure { $name } no longer
sequence-measure-also = measure also
sequence-draw-an-area-on-the-picture = Draw an area on the picture
sequence-a-rectangle = a rectangle
sequence-draw-it-on-the-picture = Draw it on the picture
sequence-an-ellipse = an ellipse
sequence-a-brushed-part = a brushed part
sequence-paint-it-on-the-picture = Paint it on the picture
sequence-show-it-or-not = Show it or not
sequence-at = { $tidy } at { $at } %
sequence-mark = Mark { $i }
sequence-left-and-right-move-it-by = Left and right move it by a frame (ten with Shift), up and down change its value, Delete takes it away
sequence-at-the-frame-that-is-shown = At the frame that is shown, with the value it has there
sequence-set-a-mark-here = Set a mark here
sequence-reading-the-folder-frames-so-far = reading the folder: { $total } frames so far
sequence-measuring-of = measuring { $done } of { $total }
sequence-the-originals = the originals
sequence-behind = behind { $i }: { $short }
sequence-there-are-no-frames-yet = There are no frames yet.
sequence-frames = { $shoot }: { any-frames }{ $timed }
sequence-days = , { $span } days
sequence-without-times = , without times
sequence-saving = saving …
sequence-saved = saved
sequence-stay-go = { $stay } stay, { $count } go
sequence-s-at-25-frames-a-second = { $stay } s at 25 frames a second. Nothing is deleted.
sequence-goes-by-pass = , goes by pass { $by }
sequence-night-lamp-dusk-scene-light-of = night lamp dusk scene light of the scene
sequence-frames-by-night-go-by-the = Frames by night go, by the light of the scene
sequence-unusual-passing-shadow-in-the-way = unusual passing shadow in the way covered odd
sequence-frames-that-differ-from-what-is = Frames that differ from what is usual at their hour go
sequence-fog-haze-mist-same-hour-contrast = fog haze mist same hour contrast
sequence-frames-with-less-contrast-than-other = Frames with less contrast than other days at that hour go
sequence-overcast-dull-cloudy-weather-scene-same = overcast dull cloudy weather scene same hour
sequence-frames-with-less-light-than-other = Frames with less light than other days at that hour go
sequence-dark-night-black-brightness-level = dark night black brightness level
sequence-dark-frames-go = Dark frames go
sequence-uneven-flicker-cloud-shadow-brightness = uneven flicker cloud shadow brightness course
sequence-frames-darker-or-brighter-than-the = Frames darker or brighter than the course go
sequence-fog-haze-dull-contrast = fog haze dull contrast
sequence-frames-with-less-contrast-than-the = Frames with less contrast than the course go
sequence-passing-covered-moving-change-something-in = passing covered moving change something in the way
sequence-frames-that-differ-much-from-the = Frames that differ much from the one before go
sequence-colour-cast-red-warm-evening = colour cast red warm evening
sequence-frames-redder-than-the-course-go = Frames redder than the course go
sequence-weekdays-sundays-sunday-saturday-monday-days = weekdays sundays sunday saturday monday days week
sequence-only-these-days-of-the-week = Only these days of the week
sequence-time-hours-clock-morning-noon-evening = time hours clock morning noon evening
sequence-only-between-two-times-of-the = Only between two times of the day
sequence-sun-sunrise-sunset-daylight-day = sun sunrise sunset daylight day
sequence-only-while-the-sun-is-up = Only while the sun is up at a place
sequence-every-nth-10th-fewer-thin = every nth 10th fewer thin
sequence-every-so-manieth-frame = Every so-manieth frame
sequence-one-a-day-daily-noon = one a day daily noon
sequence-one-a-day-nearest-to-a = One a day, nearest to a time
sequence-evenly-spread-number-so-many = evenly spread number so many
sequence-so-many-frames-evenly-spread = So many frames, evenly spread
sequence-blurred-soft-sharp-shaken-focus = blurred soft sharp shaken focus
sequence-frames-less-sharp-than-their-neighbours = Frames less sharp than their neighbours go
sequence-double-doubles-twice-same = double doubles twice same
sequence-doubles-go = Doubles go
sequence-change-from-the-frame-before = change from the frame before
sequence-red-against-green = red against green
sequence-blue-against-green = blue against green
sequence-light-of-the-scene = light of the scene
sequence-what-is-unusual = what is unusual
sequence-is-at-least = {" "}is at least{" "}
sequence-and-at-most = {" "}and at most{" "}
sequence-is-at-most = {" "}is at most{" "}
sequence-may-be-anything = {" "}may be anything
sequence-is-not-more-than = {" "}is not more than{" "}
sequence-nor-more-than = {" "}nor more than{" "}
sequence-and-at-least = {" "}and at least{" "}
sequence-may-be-anywhere-around = {" "}may be anywhere around
sequence-what-is-usual-at-that-hour = {" "}what is usual at that hour, over{" "}
sequence-its-own-course-over = {" "}its own course over{" "}
sequence-to = { $from }, { $after } to { $before }
sequence-to-day-day2 = { $day } to { $day2 }
sequence-only = Only{" "}
sequence-the-whole = the whole
sequence-the = The{" "}
sequence-only-on = Only on{" "}
sequence-only-from = Only from{" "}
sequence-only-while-the-sun-is-up-at = Only while the sun is up at{" "}
sequence-north = ° north,{" "}
sequence-east-the-clock = ° east, the clock{" "}
sequence-hours-before-utc-from = {" "}hours before UTC; from{" "}
sequence-minutes-after-sunrise-to = {" "}minutes after sunrise to{" "}
sequence-before-sunset = {" "}before sunset.
sequence-every = Every{" "}
sequence-th-frame = th frame.
sequence-of-each-day-the-frame-nearest = Of each day the frame nearest to{" "}
sequence-frames-evenly-spread = {" "}frames, evenly spread.
sequence-frames-at-least = Frames at least{" "}
sequence-as-sharp-as-those-around = {" "}as sharp as those around.
sequence-of-frames-that-look-the-same = Of frames that look the same only the first.
sequence-picked-by-hand-go = { $count } picked by hand go.
sequence-play-only-what-stays = Play only what stays{" "}
sequence-no-frame-stays-take-a-pass = No frame stays; take a pass back.
sequence-stop = Stop{" "}
sequence-marks = { $count ->
    [one] {" "}({ $count } mark)
   *[other] {" "}({ $count } marks)
  }
sequence-a-value-of-the-recipe-that = A value of the recipe that changes over the sequence
sequence-no-value = no value
sequence-no-line-of-the-recipe-has = no line of the recipe has a value yet
sequence-propose-marks = Propose marks
sequence-where-the-light-of-the-sequence = Where the light of the sequence changes most
sequence-take-out-jumps-of-the-camera = { $count ->
    [one] Take out one jump of the camera
   *[other] Take out { $count } jumps of the camera
  }
sequence-shutter-aperture-and-iso-were-changed = Shutter, aperture and ISO were changed there; the light runs through without a step
sequence-the-camera-changed-its-setting-too = The camera changed its setting too often for marks; Deflicker evens that.
sequence-hold-it = Hold it
sequence-the-same-value-for-every-frame = The same value for every frame again
sequence-changing-over-the-sequence = changing over the sequence{" "}
sequence-value = value
sequence-against-its-course = Against its course
sequence-against-the-same-hour-of-other = Against the same hour of other days
sequence-against-one-level = Against one level
sequence-some-of-the-frames-it-takes = Some of the frames it takes
sequence-look-at = Look at { $name }
sequence-with = With { $label }
sequence-without = Without { $label }
sequence-a-lower-edge = a lower edge
sequence-an-upper-edge = an upper edge
sequence-without-the-last-window = Without the last window
sequence-later = Later
sequence-pass = Pass { $i }
sequence-off = off
sequence-go = { $goes } go

## setup

setup-are-kept-now = { $count ->
    [one] { $count } picture, { $held }, is kept now.
   *[other] { $count } pictures, { $held }, are kept now.
  }
setup-nothing-is-kept-now = Nothing is kept now.
setup-made = {" "}made { $day }, { $used }{" "}
setup-last-used = last used { $day }
setup-never-used = never used
setup-take-it-away = Take it away
setup-there-are-none = There are none.
setup-copy-it-now-it-is-shown = Copy it now, it is shown this once

## tools

tools-at-work = At work …
tools-nothing-could-be-gained-its-pictures = { $all ->
    [one] Nothing could be gained: its picture is small enough.
   *[other] Nothing could be gained: its { $all } pictures are small enough.
  }
tools-instead-of-of-pictures-made-smaller = { $size } instead of { $size2 }: { $changed } of { $all } pictures made smaller.

## viewer

viewer-on-its-way = { $name }: on its way
viewer-framed-in-its-own-way = { $name }, framed in its own way
viewer-denoised = denoised { $share } %
viewer-working = working …

## watched

watched-watch-this-folder = Watch this folder
watched-it-is-watched-now = It is watched now.
watched-no-folder-yet = no folder yet
watched-where-the-recipe-says = where the recipe says
`;
