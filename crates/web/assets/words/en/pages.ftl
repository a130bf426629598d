# What the pages say in English, in the syntax of Fluent (projectfluent.org), by the template that says it.

## any: said in several templates

any-close = Close
any-about-seconds = { $count ->
    [one] about a second
   *[other] about { $count } seconds
  }
any-about-minutes = { $count ->
    [one] about a minute
   *[other] about { $count } minutes
  }
any-about-hours = about { $hours } hours
any-so-many-pictures = { $count ->
    [one] { $count } picture
   *[other] { $count } pictures
  }
any-so-many-files = { $count ->
    [one] { $count } file
   *[other] { $count } files
  }
any-line-before = Line { $line },{" "}
any-leave-it-as-it-was = Leave it as it was
any-earlier = Earlier
any-play = Play
any-first-guess = a first guess
any-this-recipe-asks = This recipe asks
any-so-many-set-aside = { $count } set aside
any-so-many-left-out = { $count } left out
any-word-selected = selected
any-word-kept = kept
any-word-frames = { $count ->
    [one] frame
   *[other] frames
  }
any-recipes = recipes
any-all-runs = All runs
any-frames = frames
any-the-recipe = The recipe
any-bench = Bench
any-undo-z = Undo (Z)
any-undo = Undo
any-recipe = recipe
any-holds-for-the-others = Holds for the others?
any-before = before
any-after = after
any-working = working …
any-zoom = Zoom
any-the-whole-picture-0 = The whole picture (0)
any-fit = Fit
any-compare = Compare
any-split = Split
any-side-by-side = Side by side
any-what-differs-eight-times-as-strong = What differs, eight times as strong (S)
any-difference = Difference
any-cancel = Cancel
any-with-sub-folders = with sub-folders
any-choose-folders-or-pictures-o = Choose folders or pictures (O)
any-frames-more = Frames
any-part-of-a-name = part of a name
any-look = Look
any-one-by-one = One by one
any-run = Run { $id }
any-machines-that-help = Machines that help
any-pictures-at-a-time = pictures at a time
any-now = now
any-back-to-the-bench = Back to the bench
any-and-more = and { $more } more
any-go-on = Go on
any-pause = Pause
any-version = version { $version }, { $saved }
any-recipes-more = Recipes
any-result = result
any-version-version = version { $version }
any-run-id = RUN { $id }
any-watched-folders = Watched folders
any-tools-without-a-run = Tools without a run
any-this-program = This program
any-no-lines-yet-the-pictures-are = No lines yet: the pictures are only converted.

## base

base-shoots-and-recipes-to-start-from = Shoots, and recipes to start from
base-these-frames-this-recipe-run = These frames, this recipe, run
base-choose-frames-f = Choose frames (F)
base-these = these
base-no-frames-yet = no frames yet
base-their-light-over-time-and-which = Their light over time, and which of them stay (J)
base-in-order-of-time = in order of time
base-record-a-recipe-e = Record a recipe (E)
base-this-recipe = this recipe
base-all-recipes-c = All recipes (C)
base-nothing-waiting = nothing waiting
base-look-at-what-a-run-will = Look at what a run will do (R)
base-run-on = Run on
base-so-many-frames = { $count ->
    [one] { $count } frame
   *[other] { $count } frames
  }
base-the-program-does-not-answer = The program does not answer.
base-what-you-did-is-kept-on = What you did is kept on this page; it goes on by itself when the program is back.

## bench

bench-bench-rallo = Bench – Rallo
bench-name-of-the-recipe = Name of the recipe
bench-named-by-what-it-does-until = Named by what it does, until you name it; an empty name goes back to that
bench-version = version
bench-on = , on { $sample }
bench-saved = saved
bench-this-recipe-was-changed-in-another = This recipe was changed in another window. Nothing was overwritten.
bench-show-that-one-here = Show that one here
bench-keep-this-one-as-the-next = Keep this one as the next version
bench-whether-what-you-do-is-written = Whether what you do is written down or only tried (T)
bench-on-the-ticket-written-down = On the ticket: written down
bench-redo-y = Redo (Y)
bench-redo = Redo
bench-take-it-onto-the-ticket = Take it onto the ticket
bench-drop-it = Drop it
bench-another-sample-another-recipe = Another sample, another recipe
bench-sample = sample
bench-the-most-typical-frames-to-record = The most typical frames to record on
bench-another-recipe = Another recipe
bench-start-another-recipe = Start another recipe
bench-new-recipe = New recipe
bench-what-next-soft-logo-16-9 = What next? soft, logo, 16:9, smaller …
bench-add-a-step-type-what-is = Add a step: type what is wanted
bench-take-in-another-recipe-as-a = Take in another recipe as a block
bench-see-it-on-the-frames-least = See it on the frames least like the sample (P)
bench-the-picture = The picture
bench-the-original-the-recipe-is-being = the original; the recipe is being computed
bench-where-before-ends-and-after-begins = Where before ends and after begins
bench-100-at-the-noisiest-place = 100 % at the noisiest place
bench-at-the-sharpest = … at the sharpest
bench-what-is-under-the-pointer-at = What is under the pointer, at 100 %
bench-reading-the-folder = Reading the folder
bench-no-sample-yet = No sample yet
bench-the-first-frame-that-is-found = The first frame that is found comes here; lines can be written meanwhile.
bench-a-recipe-is-recorded-on-one = A recipe is recorded on one picture that looks like most of the others.
bench-choose-frames = Choose frames
bench-the-sequence-played = The sequence, played
bench-before-and-after-with-a-line = Before and after, with a line between (S)
bench-before-and-after-side-by-side = Before and after side by side (S)
bench-only-the-result-hold-b-for = Only the result; hold B for before, N for without the open line (S)
bench-after = After
bench-100-under-the-pointer-l = 100 % under the pointer (L)
bench-loupe = Loupe
bench-what-is-clipped-white-black-or = What is clipped: white, black, or the colour of the channel (K); shown by itself while white or black is moved
bench-clipped = Clipped
bench-compared-with = compared with
bench-what-it-is-compared-with = What it is compared with
bench-all-frames-in-motion-as-the = All frames in motion, as the recipe makes them (A)
bench-play-all = Play all
bench-values-under-the-pointer = Values under the pointer
bench-histogram-waveform-parade-h = Histogram, waveform, parade (H)
bench-histogram-before-the-lines-over-time = Histogram before the lines over time
bench-histogram-of-what-is-shown = Histogram of what is shown
bench-histogram = histogram

## drop

drop-bringing-the-pictures = Bringing the pictures
drop-into-a-folder-instead = Into a folder instead …
drop-run = Run

## folder-list

folder-list-opened-lately = opened lately
folder-list-take-the-folder = Take the folder { $name }
folder-list-its-frames-become-pictures-in-a = Its frames become pictures in a folder beside it
folder-list-take-its-frames-out = Take its frames out
folder-list-nothing-in-here = Nothing in here.
folder-list-name-of-a-new-folder-in = name of a new folder in here
folder-list-name-of-a-new-folder = Name of a new folder
folder-list-make-it = Make it

## folders

folders-choose-folders-or-pictures = Choose folders or pictures
folders-up-one-level = Up one level
folders-up = ↑ Up
folders-path-of-a-folder-to-be = Path of a folder, to be typed or pasted
folders-what-lies-in-it = What lies in it
folders-open-this-folder = Open this folder

## frames

frames-frames-rallo = Frames – Rallo
frames-what-the-frames-have-in-common = What the frames have in common
frames-choose-a-folder = Choose a folder …
frames-other-shoots-selections-saving = Other shoots, selections, saving
frames-more = More
frames-the-frame-looked-at = The frame looked at
frames-which-frames-are-shown = Which frames are shown
frames-only-the-kept-ones = Only the kept ones
frames-kept = Kept
frames-only-those-not-decided-yet = Only those not decided yet
frames-open = Open
frames-all-frames = All frames
frames-all = All
frames-by = by
frames-sorted-by = Sorted by
frames-the-other-way-round = The other way round
frames-part-of-a-name = Part of a name (/)
frames-play-in-this-order-p = Play in this order (P)
frames-play = Play
frames-was-the-interval-steady-did-anything = Was the interval steady, did anything change? (Q)
frames-check-the-sequence = Check the sequence
frames-record-a-recipe-on-this-frame = Record a recipe on this frame (Enter)
frames-record-on-this-one = Record on this one
frames-one-column-per-frame-in-its = One column per frame in its mean colour; click goes there
frames-what-is-done-to-the-frames = What is done to the frames
frames-keep-and-on-to-the-next = Keep, and on to the next (K)
frames-keep = Keep
frames-set-aside-and-on-to-the = Set aside, and on to the next; nothing is deleted (S)
frames-set-aside = Set aside
frames-not-decided-d = Not decided (D)
frames-leave-open = Leave open
frames-rating-0-to-5 = Rating (0 to 5)
frames-one-by-one-in-the-whole = One by one, in the whole window (L)
frames-two-to-four-selected-frames-side = Two to four selected frames side by side (V)
frames-keywords-and-sidecars-w = Keywords and sidecars (W)
frames-keywords = Keywords
frames-the-cameras-clock-was-wrong-t = The camera's clock was wrong (T)
frames-shift-times = Shift times
frames-verified-copies-in-one-folder-g = Verified copies in one folder (G)
frames-gather-copies = Gather copies …
frames-select-all-that-are-shown-a = Select all that are shown (A)
frames-select-all = Select all
frames-select-none-n = Select none (N)
frames-none = None
frames-size-of-the-thumbnails = Size of the thumbnails
frames-size-of-the-thumbnails-more = Size of the thumbnails (+ −)
frames-a-list-with-columns-i = A list with columns (I)
frames-list = List
frames-no-frames-yet = No frames yet
frames-choose-a-folder-with-pictures-several = Choose a folder with pictures, several folders, or single pictures. Nothing in them is changed: Rallo only reads originals.

## keys

keys-keys-rallo = Keys – Rallo
keys-keys = Keys
keys-everywhere = Everywhere
keys-in-order-of-time-light-and = in order of time: light, and what stays
keys-bench = bench
keys-run-sheet = run sheet
keys-shift-r = Shift + R
keys-the-last-runs-recipe-on-these = the last run's recipe on these frames, at once
keys-ctrl-enter = Ctrl + Enter
keys-run-at-once-the-sheet-is = run at once; the sheet is shown only where it has something to say
keys-watched-folders = watched folders
keys-this-page = this page
keys-arrows-page-home-end = arrows, Page, Home, End
keys-go-from-frame-to-frame = go from frame to frame
keys-space = Space
keys-select-or-not = select or not
keys-shift-arrows = Shift + arrows
keys-select-a-range = select a range
keys-select-all-none = select all, none
keys-keep-set-aside-not-decided-on = keep, set aside, not decided; on to the next
keys-rate = rate
keys-undo-redo = undo, redo
keys-look-at-one-in-the-whole = look at one in the whole window
keys-two-to-four-side-by-side = two to four side by side
keys-play = play
keys-check-the-sequence = check the sequence
keys-shift-capture-times = shift capture times
keys-keywords = keywords
keys-gather-copies = gather copies
keys-alt = Alt + ← →
keys-move-in-the-order-by-hand = move in the order by hand
keys-list-or-thumbnails = list or thumbnails
keys-size-of-the-thumbnails = size of the thumbnails
keys-enter = Enter
keys-record-on-this-frame = record on this frame
keys-choose-a-folder = choose a folder
keys-before-next = before, next
keys-close-at-100 = close, at 100 %
keys-decide-rate = decide, rate
keys-slide-show-pause = slide show, pause
keys-name-on-or-off = name on or off
keys-move-the-part-that-is-shown = move the part that is shown
keys-esc = Esc
keys-back = back
keys-in-order-of-time = In order of time
keys-frame-before-next = frame before, next
keys-play-only-what-stays = play only what stays
keys-on-a-value-step = on a value: step
keys-wheel = wheel
keys-on-the-lines-closer-farther = on the lines: closer, farther
keys-fit-100-200-300 = fit, 100, 200, 300 %
keys-hold-b-n = hold B, N
keys-before-without-the-open-line = before; without the open line
keys-what-is-clipped = what is clipped
keys-split-side-by-side-after-difference = split, side by side, after, difference
keys-on-or-off-the-ticket = on or off the ticket
keys-loupe = loupe
keys-proof-on-the-other-frames = proof on the other frames
keys-play-all-frames-as-the-recipe = play all frames as the recipe makes them; Space plays and pauses, ← → go from frame to frame
keys-histogram-waveform-parade = histogram, waveform, parade
keys-ctrl-c-v = Ctrl + C, V
keys-copy-the-line-paste-lines = copy the line, paste lines
keys-arrows = arrows
keys-on-the-picture-move-on-a = on the picture: move; on a value: step; on the line between: move it
keys-arrows-enter-esc = arrows, Enter, Esc
keys-with-a-tool-on-the-picture = with a tool on the picture: move the mark, take hold and let go, give up; with Shift finely
keys-what-next = what next?
keys-alt-more = Alt + ↑ ↓
keys-on-a-line-move-it = on a line: move it
keys-x-delete = X, Delete
keys-on-a-line-off-or-on = on a line: off or on, remove
keys-run-sheet-more = Run sheet
keys-start = start

## listing

listing-folder = folder
listing-rallo = { $folder } – Rallo
listing-what-lies-in-the-folder = What lies in the folder
listing-name = name
listing-size = size
listing-written = written
listing-from = from
listing-this-run = this run
listing-and-more = And { $more } more.

## login

login-passphrase-of-this-server = Passphrase of this server
login-come-in = Come in

## machines

machines-none-yet-on-another-machine = None yet. On another machine:
machines-machine = machine
machines-in-work-now = in work now
machines-made = made
machines-a-minute = a minute
machines-last-heard-of = last heard of
machines-nothing = nothing
machines-s-ago = { $seen } s ago
machines-it-ends-what-it-has-in = It ends what it has in work, and goes
machines-send-home = Send home
machines-runs-wait = <b>Runs wait:</b> this machine leaves pictures to others (it was started with <code>--leave-pictures</code>), and none of them takes any now.

## nothing

nothing-there-is-nothing-here = There is nothing here
nothing-the-address-leads-nowhere = The address leads nowhere. Go to <a href="/frames">the frames</a>, <a href="/bench">the bench</a> or <a href="/runs">the runs</a>.

## proof

proof-proof-rallo = Proof – Rallo
proof-the-sample-and-the-frames-least = The sample, and the frames least like it, before and after.
proof-all-at-the-same-place-1 = All at the same place (1)

## queue

queue-seconds = { $count } s
queue-minutes = { $count } min
queue-hours = { $hours } h
queue-at-work = at work
queue-paused = paused
queue-of = { $ended } of { $total }
queue-of-with-time-left = { $ended } of { $total }, { $time } left
queue-paused-at = Paused at { $ended } of { $total }
queue-waits-for-your-yes = Waits for your yes
queue-begins = Begins { $when }
queue-next-in-turn = Next in turn
queue-waits-for-its-turn = Waits for its turn
queue-run-of = run { $id }, { $tasks } of { $framesof }
queue-progress-of-run = Progress of run { $id }
queue-failed = { $failed } failed.
queue-look-at-it = Look at it
queue-start-now = Start now
queue-after-the-pictures-in-work = After the pictures in work
queue-before-all-others = Before all others
queue-first = First
queue-earlier = Earlier
queue-later = Later
queue-what-is-done-stays = What is done stays
queue-stop = Stop
queue-after-these = after these

## recipe

recipe-nothing-that-can-be-seen = nothing that can be seen
recipe-drop-pictures-here-to-run-this = Drop pictures here to run this recipe on them, or
recipe-pick-some = pick some
recipe-lay-it-on-the-bench = Lay it on the bench
recipe-settings-sheet = Settings sheet
recipe-duplicate = Duplicate
recipe-remove = Remove
recipe-labels-with-commas-between = Labels, with commas between
recipe-note = Note
recipe-versions = Versions
recipe-version = Version { $version }
recipe-back-to-this = Back to this

## recipe-list

recipe-list-into-the-file = { $name }, into the file
recipe-list-no-recipe-has-all-of-these = No recipe has all of these words.
recipe-list-no-recipes-yet-record-one-on = No recipes yet. Record one on the bench, or load a file.

## recipes

recipes-recipes-rallo = Recipes – Rallo
recipes-part-of-a-name-a-label = Part of a name, a label, a note or a step
recipes-find-a-recipe = Find a recipe
recipes-load-from-a-file = Load from a file
recipes-save-to-a-file = Save to a file
recipes-start-a-recipe-from-one-of = Start a recipe from one of ours

## report

report-run-report = Run { $id } – report
report-table = Table
report-run = Run { $id }: { $name }
report-version-on-started-from = Version { $version }, on { $framesof }, { $when }. Started from: { $origin }.
report-picture = picture
report-pixels = pixels
report-seconds = seconds
report-made-by = made by

## run

run-was-there-already = was there already
run-from-to-in = { $before } to { $after }, { $seconds } s
run-from-to-in-ms = { $before } to { $after }, { $seconds } ms
run-clip = { base-so-many-frames }, { $seconds } s, { $width } × { $height }, { $codec }, { $bytes }
run-watch-it-here = Watch it here
run-what-was-found = What was found
run-made-of-all-pictures = made of all pictures
run-kind-gone = gone
run-cannot-be-read = cannot be read
run-not-supported = not supported
run-too-large = too large
run-no-permission = no permission
run-changed-meanwhile = changed meanwhile
run-name-taken = name taken
run-kind-recipe = recipe
run-fault-in-the-program = fault in the program
run-pictures-and-tasks = { any-so-many-pictures }, and { $tasks } made of all of them or checked.{" "}
run-waiting-until = Waiting until { $when }
run-waiting-for-its-turn = Waiting for its turn
run-of-done = { $ended } of { $total } done
run-of-done-with-time-left = { $ended } of { $total } done, { $time } left
run-paused-of-done = Paused: { $ended } of { $total } done
run-waiting-for-your-yes = Waiting for your yes
run-done-of = Done: { $good } of { $total }, in { $seconds } seconds
run-all-done-of = All done: { $good } of { $total }, in { $seconds } seconds
run-stopped-at = Stopped: { $good } of { $total } are done
run-could-not-be-made = {" "}{ $count } could not be made.
run-about-in-all = {" "}About { $bytes } in all.
run-into = Into { $folder }.
run-into-with-sizes = Into { $folder }: { $after } where the originals are { $before }.
run-seconds-a-picture = { $seconds } s a picture.{" "}
run-pictures-a-second = { $count } pictures a second.{" "}
run-in-work = In work: { $pictures }
run-start-now = Start now
run-cancel-this-run = Cancel this run
run-try-again = Try again
run-taken-back = Taken back
run-its-results-are-gone = Its results are gone; what was changed since stays.{ $failed }
run-more-are-there-than-are-shown = More are there than are shown here; the report names them all.
run-run-rallo = Run { $id } – Rallo
run-progress = Progress
run-pause-after-these = Pause after these
run-stop-after-these = Stop after these
run-try-the-failed-ones-again = Try the failed ones again
run-removes-exactly-the-files-this-run = Removes exactly the files this run wrote, as far as they are unchanged since
run-take-the-results-back = Take the results back
run-everything-that-lies-in-the-folder = Everything that lies in the folder the results went into
run-what-lies-there = What lies there
run-every-result-of-this-run-in = Every result of this run, in one file
run-take-them-as-a-zip = Take them as a ZIP
run-report = Report:
run-table = table
run-to-print = to print
run-the-dropped-pictures-and-results-that = The dropped pictures, and results that went into no folder, are kept for a week after this run, then removed.
run-the-run-waits-for-a-yes = The run waits for a yes
run-a-result-beside-its-original = A result beside its original
run-the-result-and-its-original = The result and its original
run-original = original
run-the-result-small = the result, small
run-where-the-original-ends-and-the = Where the original ends and the result begins
run-the-original-and-the-result-with = The original and the result, with a line between (S)
run-the-original-and-the-result-side = The original and the result side by side (S)
run-only-the-result-hold-b-for = Only the result; hold B for the original
run-result = Result
run-previous = ‹ Previous
run-next = Next ›
run-esc = (Esc)
run-close = Close

## runs

runs-stopped-at = stopped at { $good } of { $total }
runs-so-many-done = { $good } done
runs-so-many-done-and-failed = { $good } of { $total }, { $failed } failed
runs-from-bytes-to-bytes = , { $before } to { $after }
runs-runs-rallo = Runs – Rallo
runs-runs = Runs
runs-the-queue = The queue
runs-nothing-waits = Nothing waits.
runs-choose-frames-record-a-recipe-then = Choose frames, record a recipe, then press Run: it hangs here until it is done, and you go on working.
runs-done = Done
runs-earlier-runs = Earlier runs
runs-the-machine = The machine
runs-what-runs-may-have-of-this = What runs may have of this machine
runs-one-a-core = one a core
runs-empty-is-one-for-each-core = Empty is one for each core
runs-memory-mb = memory, MB
runs-half-of-free = half of free
runs-empty-is-half-of-what-is = Empty is half of what is free
runs-quiet-one-at-a-time-behind = quiet: one at a time, behind everything else
runs-tell-me-when-a-run-is = tell me when a run is done or waits for a yes
runs-with-a-sound = with a sound
runs-watched-folders-m = Watched folders (M)

## second

second-second-screen-rallo = Second screen – Rallo

## sequence

sequence-sequence-rallo = Sequence – Rallo
sequence-what-stays = What stays
sequence-and-what-else = And what else?
sequence-and-what-else-dark-fog-sundays = And what else? dark, fog, sundays, every 10th …
sequence-passes-for-the-same-light-without = Passes for the same light, without night, fog and what is in the way
sequence-suggest-passes = Suggest passes
sequence-measuring = measuring …
sequence-play-only-what-stays = Play only what stays
sequence-the-frames-that-go-are-set = The frames that go are set aside in the shoot; what the sieve set aside before and lets through now comes back
sequence-set-aside-what-goes = Set aside what goes
sequence-the-sequence = The sequence
sequence-view = View
sequence-lines = Lines
sequence-days-and-hours = Days and hours
sequence-measured-on = measured on
sequence-lines-of-light-over-time-arrow = Lines of light over time. Arrow keys step through the frames.

## settings

settings-settings-sheet = { $name } – settings sheet
settings-print = Print
settings-as-a-pdf = As a PDF
settings-version = Version { $version }, { $saved }

## setup

setup-this-program-rallo = This program – Rallo
setup-kept-to-save-time = Kept to save time
setup-denoising-takes-longest-rallo-keeps-denoised = Denoising takes longest. Rallo keeps denoised pictures in its own folder, so that a change of a later line does not denoise them again. What was not used for a day makes room for what is newer.
setup-at-most = at most
setup-gb = GB
setup-empty-it = Empty it
setup-what-is-installed-here = What is installed here
setup-some-kinds-of-files-are-read = Some kinds of files are read and written by programs of others. Everything else works without them.
setup-what-it-is-for = what it is for
setup-here = here
setup-without-it = without it
setup-yes = yes
setup-no-on-debian = no; on Debian:
setup-tokens-for-scripts = Tokens for scripts
setup-scripts-can-do-everything = Scripts can do everything these pages do: <a href="/api/openapi.json">the interface, as OpenAPI</a>. A script brings its token as <code>Authorization: Bearer …</code>.
setup-for = for
setup-what-the-token-is-for = what the token is for
setup-make-a-token = Make a token
setup-passphrase = Passphrase
setup-whoever-opens-these-pages = Whoever opens these pages is asked for it once in 30 days. It is changed on the server with <code>rallo passphrase</code>.
setup-end-this-session = End this session

## sheet

sheet-the-others-are-left-out = { $count ->
    [one] ; the other one is left out
   *[other] ; the { $count } others are left out
  }
sheet-it-takes-all = { $count ->
    [one] It takes the one frame there is.
   *[other] It takes all { $count } frames.
  }
sheet-it-takes-the-selected = It takes the { $count } selected{ $others }.
sheet-it-takes-the-kept = It takes the { $count } kept{ $others }.
sheet-it-takes-what-is-not-set-aside = It takes the { $count } that are not set aside{ $others }.
sheet-run-sheet-rallo = Run sheet – Rallo
sheet-change-it = change it
sheet-looking-at-what-this-will-do = Looking at what this will do …
sheet-what-this-recipe-asks = What this recipe asks
sheet-values = Values
sheet-keep-in-the-recipe-too = Keep in the recipe too
sheet-as-the-recipe-says = As the recipe says
sheet-start = Start
sheet-on = on
sheet-size-unknown = unknown
sheet-of = { $pixels }, of { $source }
sheet-line = Line { $line }, { $title }
sheet-where-and-how = Where and how results are written
sheet-values-of-line = Values of line { $line }
sheet-values-of-delivery = Values of delivery { $delivery }
sheet-choose-a-folder = Choose a folder
sheet-changed = Changed for this run.
sheet-changed-and-left-out = Changed for this run. { any-so-many-left-out }.
sheet-before-it-can-start = Before it can start
sheet-good-to-know = Good to know
sheet-into = Into { $folder }.
sheet-into-where-is-free = Into { $folder }. { $free } are free there.
sheet-and-other-folders = { $folder } { $others ->
    [one] and { $others } other folder
   *[other] and { $others } other folders
  }
sheet-estimated = estimated from what this machine does
sheet-learned = estimated from earlier runs
sheet-being-measured = { $sure }, being measured now
sheet-corrected-while-it-runs = { $sure }, corrected while it runs
sheet-measured-on = measured on { $count } of them, corrected while it runs
sheet-none-could-be-made = None of the pictures could be made to measure time and size.
sheet-each = , { $bytes } each
sheet-in-all = { $time }, about { $bytes } in all{ $each }: { $why }.
sheet-later-first-or-with-a-limit = Later, first, or with a limit
sheet-start-before-all-other-runs = Start before all other runs
sheet-every-night-or-whenever-pictures-arrive = Every night, or whenever pictures arrive
sheet-not-before = not before
sheet-pause-after = pause after
sheet-any-number-of = any number of
sheet-failures = failures
sheet-send-the-report-to = send the report to
sheet-https = https://…

## start

start-opened-before = { any-so-many-pictures }, opened before
start-from-day-to-day = { $early } to { $last }
start-which-pictures = Which pictures?
start-originals-are-only-ever-read = Originals are only ever read.
start-programs-are-missing = { $count ->
    [one] <a href="/setup">{ $count } program that Rallo can use is not installed here</a>.
   *[other] <a href="/setup">{ $count } programs that Rallo can use are not installed here</a>.
  }
start-shoots-and-folders = Shoots and folders
start-drop-pictures-here-or-choose-a = Drop pictures here, or choose a folder
start-another-folder = Another folder …
start-what-people-do-here = What people do here
start-take-pictures-in = <b>Take pictures in</b>, and set aside what is not wanted.
start-record-a-recipe = <b>Record a recipe</b> on one of them, looking closely.
start-run-it = <b>Run it</b> over all of them, and go on working meanwhile.
start-or-begin-with-a-recipe-and = Or begin with a recipe, and give it pictures later
start-recipes-to-start-from = Recipes to start from
start-lay-a-copy-of-it-on = Lay a copy of it on the bench

## tools

tools-tools-rallo = Tools – Rallo
tools-a-pdf-made-smaller = A PDF made smaller
tools-make-a-pdf-smaller = Make a PDF smaller
tools-its-pictures-are-reduced-and-compressed = Its pictures are reduced and compressed again; everything else stays, and so does the file itself.
tools-pixels-an-inch = pixels an inch
tools-quality = quality
tools-make-it-smaller = Make it smaller
tools-a-clip-taken-apart = A clip taken apart
tools-take-a-clip-apart = Take a clip apart
tools-its-frames-become-pictures = Its frames become pictures in a folder beside it, to be worked on as a sequence: choose “Another folder …” on the <a href="/">first page</a>, go to where the clip lies, and press “Take its frames out”.
tools-copies-that-are-verified = Copies that are verified
tools-copy-pictures-safely = Copy pictures safely
tools-select-them-and-press-g = Select them among <a href="/frames">the frames</a> and press G: each copy is read back and compared with its original.

## watch-list

watch-list-version-on-what-arrives-in = { $recipe }, version { $version }, on what arrives in { $folder }
watch-list-and-below = and below
watch-list-every-day-at = , every day at { $time }
watch-list-into = , into { $target }
watch-list-paused-what-arrives-is-taken-in = Paused: what arrives is taken in later.
watch-list-pictures-have-arrived = { $count ->
    [one] { $count } picture has arrived.
   *[other] { $count } pictures have arrived.
  }
watch-list-run = Run { $run }
watch-list-it-does-not-work = It does not work.
watch-list-what-arrives-meanwhile-is-taken-in = What arrives meanwhile is taken in later
watch-list-for-what-arrives-from-now-on = For what arrives from now on
watch-list-take-version = Take version { $newer }
watch-list-runs-and-results-stay = Runs and results stay
watch-list-watch-it-no-longer = Watch it no longer
watch-list-no-folder-is-watched = No folder is watched.

## watched

watched-watched-folders-rallo = Watched folders – Rallo
watched-a-recipe-runs-on-every-picture = A recipe runs on every picture that arrives in a folder, as soon as the file is complete, or once a day. What arrives while the program is off is taken in when it is back.
watched-watch-another-folder = Watch another folder
watched-pictures-arrive-in = pictures arrive in
watched-no-folder-yet = no folder yet
watched-choose = Choose
watched-results-go = results go
watched-where-the-recipe-says = where the recipe says
watched-when = when
watched-at-once = at once
watched-once-a-day = once a day
watched-time-of-day = time of day
watched-called = called
watched-the-folders-name = the folder's name
watched-send-reports-to = send reports to
watched-https-may-be-empty = https://… (may be empty)
watched-watch-it = Watch it

## dialogs: over the frames

dialogs-look-again-for-new-and-gone-files = Look again for new and gone files
dialogs-new-files-appear-as-they-are-written = New files appear as they are written
dialogs-follow-live = Follow live
dialogs-take-in-results-of-earlier-runs = Take in results of earlier runs
dialogs-left-out-files = { $count ->
    [one] Left out: { $count } file
   *[other] Left out: { $count } files
  }
dialogs-put-into-a-selection = Put into a selection …
dialogs-save-the-shoot-as-a-file = Save the shoot as a file
dialogs-open-a-shoot-file = Open a shoot file …
dialogs-shows-the-current-frame = Shows the current frame, for a second screen
dialogs-a-second-window = A second window
dialogs-simulated-interval-camera = Simulated interval camera …
dialogs-selections = Selections
dialogs-forget-this-selection-its-frames-stay = Forget this selection; its frames stay
dialogs-forget = Forget
dialogs-take-the-selected-frames-out = Take the selected frames out of this selection
dialogs-back-to-the-shoot = Back to the shoot
dialogs-shoots = Shoots
dialogs-nothing-was-left-out = Nothing was left out
dialogs-files-are-left-out = { $count ->
    [one] One file left out
   *[other] { $count } files left out
  }
dialogs-check-of-the-sequence = Check of the sequence
dialogs-shows-these-frames = Shows these frames
dialogs-so-many-shown = { $count } shown
dialogs-time-from-each-frame-to-the-next = Time from each frame to the next
dialogs-the-line-is-the-usual-one = time from each frame to the next; the line is the usual one
dialogs-put-so-many-into-a-selection = Put { base-so-many-frames } into a selection
dialogs-a-selection-is-a-list-with-a-name = A selection is a list with a name, also across shoots. Nothing is copied.
dialogs-name-of-the-selection = Name of the selection
dialogs-put-in = Put in
dialogs-keywords-of = Keywords of { base-so-many-frames }
dialogs-new-keywords-with-commas-between = new keywords, with commas between
dialogs-new-keywords = New keywords
dialogs-takes-rating-and-keywords-from-xmp = Takes rating and keywords from the XMP files beside the pictures
dialogs-read-sidecars = Read sidecars
dialogs-writes-rating-and-keywords-into-xmp = Writes rating and keywords into XMP files beside the pictures; those of other programs are left alone
dialogs-write-sidecars = Write sidecars
dialogs-edit-the-list = Edit the list …
dialogs-set = Set
dialogs-the-list-of-keywords = The list of keywords
dialogs-one-a-line-frames-keep-theirs = One a line. Frames keep the keywords they have.
dialogs-keywords-one-a-line = Keywords, one a line
dialogs-keep-the-list = Keep the list
dialogs-a-camera-over-the-seed-beds = A camera over the seed beds (simulated)
dialogs-it-stands-in-for-an-interval-camera = It stands in for an interval camera: it writes frames of Thistlewick’s seed beds into the folder, with the faults you choose.
dialogs-frames = frames
dialogs-as-you-wait = as you wait
dialogs-seconds-between-them = seconds between them
dialogs-how-far-its-clock-goes-on = how far its clock goes on from frame to frame
dialogs-seconds-on-its-clock = seconds on its clock
dialogs-its-clock-says = its clock says
dialogs-numbers-with-commas-between = numbers with commas between
dialogs-frames-it-misses = frames it misses
dialogs-frames-it-takes-twice = frames it takes twice
dialogs-such-as-12-3600 = such as 12:-3600
dialogs-clock-jumps = clock jumps, frame:seconds
dialogs-start-shooting = Start shooting
dialogs-the-camera-is-shooting = The camera is shooting
dialogs-the-camera-has-stopped = The camera has stopped
dialogs-of-frames-into = { $taken } of { base-so-many-frames } into { $folder }
dialogs-choose-that-folder-and-follow-live = Choose that folder and switch on “Follow live” under More to see them come in.
dialogs-stop-it = Stop it
dialogs-gather-frames-into = Gather { base-so-many-frames } into { $folder }
dialogs-verified-copies = Verified copies, named so that their order is the order of capture. The same picture found twice is copied once. Originals are only read.
dialogs-names = Names
dialogs-names-of-the-copies = Names of the copies
dialogs-look-at-the-names = Look at the names
dialogs-looking-at-the-frames = Looking at the frames …
dialogs-copying-into = Copying into { $folder } …
dialogs-into = Into { $folder }
dialogs-stopped-it-can-go-on = Stopped; it can go on
dialogs-gathered-into = Gathered into { $folder }
dialogs-copy = Copy
dialogs-looked-at = { $done } of { $total } looked at
dialogs-copied = { $done } of { $total } done
dialogs-could-not-be-used = , { $count } could not be used
dialogs-so-many-copied = { $count } copied, { $there } there already, { $twice } found twice{ $trouble }.
dialogs-so-many-to-copy = { $count ->
    [one] { $count } copy
   *[other] { $count } copies
  } ({ $bytes }), { $there } there already, { $twice } found twice{ $trouble }.
dialogs-there-already = { $name } (there already)
dialogs-same-picture-as = same picture as { $name }
dialogs-shift-the-capture-time-of = Shift the capture time of { base-so-many-frames }
dialogs-the-files-are-not-changed = The files are not changed: the time counts in sorting, in names, and in what results carry.
dialogs-days = days
dialogs-hours = hours
dialogs-minutes = minutes
dialogs-seconds = seconds
dialogs-earlier-or-later = Earlier or later
dialogs-later = later
dialogs-earlier = earlier
dialogs-or-was-taken-at = or { $name } was taken at
dialogs-this-frames-time-becomes = This frame’s time becomes
dialogs-shift = Shift
dialogs-outside-the-calendar = outside the calendar
dialogs-have-no-capture-time = { $count ->
    [one] { $count } has no capture time and stays as it is
   *[other] { $count } have no capture time and stay as they are
  }

## checkpoint

checkpoint-before-line = Before line { $line }: { $what }
checkpoint-yes-go-on = Yes, go on
checkpoint-the-pictures-as-they-will-be = The pictures as they will be with all lines. Choose one to change values for it alone; without one they are for all.
checkpoint-change-values = Change values

## names: the dialog of the bench that builds names

names-build-the-name = Build the name
names-this-template-has-pieces-of-its-own = This template has pieces of its own; type it below, or
names-begin-anew = begin anew
names-add = Add
names-the-old-name = the old name
names-a-text = text
names-a-number = a number
names-the-date = the date
names-data = data
names-as-a-template = As a template
names-the-name-as-a-template = The name as a template
names-old = old
names-new = new
names-as = as { $clash }
names-take-this-name = Take this name
names-take-this-piece-away = Take this piece away
names-take = take
names-the-whole = whole
names-first = first
names-last = last
names-without-first = without first
names-without-last = without last
names-letters = letters
names-put-for = put for
names-this = this
names-as-they-are = as they are
names-lower = lower
names-upper = upper
names-title = title
names-digits = digits
names-as-date = as
names-may-2026 = May 2026
names-which = which
names-camera = camera
names-lens = lens
names-iso = iso
names-aperture = aperture
names-shutter = shutter
names-focal = focal
names-folder = folder
names-recipe = recipe
names-width = width
names-height = height
names-there-are-no-frames = There are no frames to try it on.
names-are-there-twice = { $clashes } of { $count } names are there twice: add a number or the old name.
names-each-only-once = { $count ->
    [one] One name.
   *[other] { $count } names, each only once.
  }
names-each-only-once-and-cut = { names-each-only-once } { $cut } had signs that not every file system takes.

## delivered: the dialog of the bench with the file as it will be

delivered-the-file-as-it-will-be = The file as it will be
delivered-without-compression = without compression
delivered-as-the-file-will-be = as the file will be
delivered-making-it = Making it …
delivered-which-width = Which width
delivered-px-wide = { $width } px wide

## move: the dialog of the bench with a clip's camera move

move-the-camera-move = The camera move
move-camera-move = Camera move
move-arrow-keys-move-the-window = Arrow keys move the window, plus and minus make it larger and smaller
move-windows-on-the-sample = Windows of the move on the sample
move-what-the-clip-shows = What the clip shows
move-making-the-sample = Making the sample …
move-between-marks = between marks
move-how-it-goes-from-mark-to-mark = How it goes from mark to mark
move-even = even
move-soft = soft
move-soft-start = soft start
move-soft-end = soft end
move-flowing = flowing
move-time = time
move-from-left = from left
move-from-top = from top
move-size = size
move-0-is-the-first-frame = 0 is the first frame, 100 the last
move-the-middle-of-the-window = The middle of the window
move-against-the-largest-window = Against the largest window of this proportion
move-add-a-mark-here = Add a mark here
move-at-the-time-on-the-line-below = At the time on the line below
move-remove-this-mark = Remove this mark
move-time-in-the-clip = Time in the clip
move-take-this-move = Take this move
