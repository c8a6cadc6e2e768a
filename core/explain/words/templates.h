// SPDX-License-Identifier: GPL-3.0-or-later
//
// Every sentence the explanation says, whole, with its parts named in braces, so that it can be translated whole. What
// stands in a part is a name, a figure, or a short list of them. Any thread.
#pragma once

#include <initializer_list>
#include <string>
#include <string_view>
#include <utility>

namespace fugato {

struct Template {
    const char* text;
    /// The text with its parts. One that is not given stays in its braces.
    std::string operator()(std::initializer_list<std::pair<std::string_view, std::string_view>> parts = {}) const;
};

/// Gives another text for that of a template, before its parts are put in; null: none. Set before anything is said.
using Translate = std::string (*)(const char* text);
void setTranslate(Translate translate);

namespace say {

// ---- how bad it is --------------------------------------------------------------------------------------------------

inline constexpr Template kNoneInScope{"No frame begins in what is to be explained alone."};
inline constexpr Template kNoFrames{"No frames were recorded, so nothing can be late."};
inline constexpr Template kOnlyFrameMet{"Its only frame met its deadline; it took {worst}"};
inline constexpr Template kAllMet{"Every one of {frames} met its deadline; the slowest took {worst}"};
inline constexpr Template kVerdict{"{frames} over budget, {late} late in all, from {causes}"};
inline constexpr Template kVerdictStarting{
    "{frames} over budget, {late} late in all ({starting} of it starting up), from {causes}"};
inline constexpr Template kNoNamedCause{"no cause that was recorded"};
inline constexpr Template kMostlyBound{"mostly bound by {what}"};
inline constexpr Template kOftenBound{"often bound by {what}"};
inline constexpr Template kFromTo{"from {from} to {to}"};
inline constexpr Template kStage{"stage {stage}"};
inline constexpr Template kWholeRecording{"the whole recording"};
inline constexpr Template kCpuWork{"CPU work"}, kCpuWorkOn{"CPU work on {lane}"}, kGpuWork{"GPU work"},
    kGpuWorkOn{"GPU work on {lane}"}, kWaiting{"waiting"}, kCpuContention{"CPU contention"},
    kDisplaysTick{"the display's tick"};

// ---- what is simulated ----------------------------------------------------------------------------------------------

inline constexpr Template kRepairedNone{"With {letters} repaired no frame is late, instead of {before}"};
inline constexpr Template kRepaired{"With {letters} repaired {frames} instead of {before}, {late} in all"};
inline constexpr Template kMoreMarkers{"Markers inside it would tell more."};
inline constexpr Template kWithout{"Without {letters}"}, kIfUsual{"If {letters} took its usual time"},
    kIfUsualAll{"If {letters} took their usual time"},
    kWithoutIfUsual{"Without {gone} and if {letters} took its usual time"},
    kWithoutIfUsualAll{"Without {gone} and if {letters} took their usual time"}, kWithoutThis{"Without this"},
    kWithCore{"With a core at once"}, kIfThisUsual{"If this took its usual time"};
inline constexpr Template kOneSaved{"{repair}, its late frame would meet its deadline"};
inline constexpr Template kOneStillLate{"{repair}, its frame would still be late"};
inline constexpr Template kSavedOfIts{"{repair}, {saved} of its {frames} late frames would meet their deadline"};
inline constexpr Template kSavedOfTheir{"{repair}, {saved} of their {frames} late frames would meet their deadline"};
inline constexpr Template kAndLater{"{saved}, and so would {later}"};
inline constexpr Template kAndNoneLate{"{saved}, and no frame would be late."};
inline constexpr Template kAndStay{"{saved}; {frames}."};
inline constexpr Template kAndStayMost{"{saved}; {frames}, most of all from {letter}."};

// ---- what a cause did in a frame ------------------------------------------------------------------------------------

inline constexpr Template kInsideLonger{"{path} took {time} longer than usual outside its inner markers."};
inline constexpr Template kInsideLongest{
    "{path} took {time} longer than usual outside its inner markers: {longest} without one."};
inline constexpr Template kInsideAfter{
    "{path} took {time} longer than usual outside its inner markers: {longest} without one after ‘{before}’."};
inline constexpr Template kInsideBefore{
    "{path} took {time} longer than usual outside its inner markers: {longest} without one before ‘{after}’."};
inline constexpr Template kInsideBetween{
    "{path} took {time} longer than usual outside its inner markers: {longest} without one between ‘{before}’ and "
    "‘{after}’."};
inline constexpr Template kMarkerThere{"A marker there would tell more."};
inline constexpr Template kHeldLonger{"{cause} held ‘{lock}’ {time} longer than usual."};
inline constexpr Template kWaitedForLock{"{waiter} waited {time} for ‘{lock}’."};
inline constexpr Template kHeldInside{"{holder} held it inside {path}."};
inline constexpr Template kHeldOutside{"{holder} held it outside any marker."};
inline constexpr Template kLockUsually{"In usual{stage} frames that takes {usual}."};
inline constexpr Template kLockUsuallyNot{"In usual{stage} frames there is no such wait."};
inline constexpr Template kMachineStopped{
    "The machine itself stood still for {time} more than usual while {lanes} would have run, as a virtual machine does "
    "while its host runs others."};
inline constexpr Template kReadyOne{
    "{lane} was ready to run, but waited for a core {time} longer than usual: CPU contention with {holders}."};
inline constexpr Template kReadySeveral{
    "{lanes} were ready to run, but waited for a core {time} longer than usual ({times}): CPU contention with "
    "{holders}."};
inline constexpr Template kOutsideLonger{"{lane} spent {time} longer than usual outside any marker."};
inline constexpr Template kOnlyOne{"What of this is unusual cannot be told from one frame."};
inline constexpr Template kNothingToBlame{"For {time} more nothing that was recorded is to blame."};
inline constexpr Template kNothingLonger{
    "Nothing that was recorded took longer than usual. A marker inside the longest time without one would tell more."};
inline constexpr Template kSystemEnded{"The system itself ended it, for a timer or a device."};
inline constexpr Template kEndedBySystem{"It was ended by {by}, a thread of the system."};
inline constexpr Template kEndedByProgram{"It was ended by {by}, another program."};
inline constexpr Template kWhoEnded{"Who ended that wait was not recorded; a link would tell."};
inline constexpr Template kMoreCalls{"{path} ran {calls} times on {lane}, usually {usual}; that cost {time} more."};
inline constexpr Template kUnusual{"{path} on {lane} took {time}; it does not occur in a usual{stage} frame."};
inline constexpr Template kBeside{
    "{path} on {lane} took ×{factor} its usual time, beside or before what this frame waited for; that cost it "
    "{time}."};
inline constexpr Template kOneCall{"{path} on {lane} took {time} longer than usual in its one call."};
inline constexpr Template kCalls{"{path} on {lane} took {time} longer than usual in {calls} calls."};
inline constexpr Template kNoWaitRecorded{"No wait was recorded there."};
inline constexpr Template kEndedLate{"Its work was done in time; this wait ended late."};
inline constexpr Template kOfThat{"It {what} of that."};
inline constexpr Template kStacksIn{
    "{samples} of {stacks} there are in {function}: {time} ± {deviation} ms more than usual."};
inline constexpr Template kStacksInFrom{
    "{samples} of {stacks} there are in {function}, called from {caller}: {time} ± {deviation} ms more than usual."};
inline constexpr Template kItHad{"It had {arguments}."}, kLongestHad{"Its longest call had {arguments}."},
    kAroundHad{"‘{marker}’ around it had {arguments}."};
inline constexpr Template kSmaller{"Smaller: {causes}."};
inline constexpr Template kCovered{
    "These explain {part} % of the {excess} more than usual; the rest is spread over small parts."};

// ---- waits, by what was waited for ----------------------------------------------------------------------------------

struct WaitTemplates {
    Template longer;  // what a cause did in a frame
    Template on;      // what kind of cause it is
    Template lasted;  // a part of "It … of that."
};
inline constexpr WaitTemplates kWaitLock{{"{lane} waited for a lock {time} longer than usual in {path}{blocked}."},
                                         {"waits for a lock on {lane}"},
                                         {"waited for a lock {time}"}};
inline constexpr WaitTemplates kWaitCondition{
    {"{lane} waited for a condition {time} longer than usual in {path}{blocked}."},
    {"waits for a condition on {lane}"},
    {"waited for a condition {time}"}};
inline constexpr WaitTemplates kWaitJob{{"{lane} waited for a job {time} longer than usual in {path}{blocked}."},
                                        {"waits for a job on {lane}"},
                                        {"waited for a job {time}"}};
inline constexpr WaitTemplates kWaitGpu{{"{lane} waited for the GPU {time} longer than usual in {path}{blocked}."},
                                        {"waits for the GPU on {lane}"},
                                        {"waited for the GPU {time}"}};
inline constexpr WaitTemplates kWaitFile{{"{lane} waited for a file {time} longer than usual in {path}{blocked}."},
                                         {"waits for a file on {lane}"},
                                         {"waited for a file {time}"}};
inline constexpr WaitTemplates kWaitSleep{
    {"{lane} slept {time} longer than usual in {path}{blocked}."}, {"sleeps on {lane}"}, {"slept {time}"}};
inline constexpr WaitTemplates kWaitPacing{
    {"{lane} waited for the next tick {time} longer than usual in {path}{blocked}."},
    {"waits for the next tick on {lane}"},
    {"waited for the next tick {time}"}};
inline constexpr WaitTemplates kWaitOther{
    {"{lane} waited {time} longer than usual in {path}{blocked}."}, {"waits on {lane}"}, {"waited {time}"}};
inline constexpr WaitTemplates kWaitWaking{{"{lane} woke up {time} later than usual in {path}{blocked}."},
                                           {"wakes up late on {lane}"},
                                           {"woke up late by {time}"}};
inline constexpr WaitTemplates kWaitQueue{{"{lane} waited in a queue {time} longer than usual in {path}{blocked}."},
                                          {"waits in a queue on {lane}"},
                                          {"waited in a queue {time}"}};
inline constexpr WaitTemplates kWaitCore{{"{lane} waited for a core {time} longer than usual in {path}{blocked}."},
                                         {"waits for a core on {lane}"},
                                         {"waited for a core {time}"}};
inline constexpr WaitTemplates kWaitBlocked{{"{lane} was blocked {time} longer than usual in {path}{blocked}."},
                                            {"was blocked on {lane}"},
                                            {"was blocked {time}"}};
inline constexpr WaitTemplates kAwaited{{"{lane} was waited for {time} longer than usual in {path}{blocked}."},
                                        {"is waited for on {lane}"},
                                        {"ran {time}"}};
inline constexpr WaitTemplates kNothingRecorded{
    {"{lane} recorded nothing for {time} longer than usual in {path}{blocked}."},
    {"nothing recorded on {lane}"},
    {"recorded nothing for {time}"}};

// ---- where it came from, and what it rests on -----------------------------------------------------------------------

inline constexpr Template kAskedFor{"The work was asked for in frame {origin}; this frame is late because of it."};
inline constexpr Template kCameThrough{"It came through frame {frame} of ‘{series}’, which was {late} late itself."};
inline constexpr Template kLikelyThrough{
    "It likely came through frame {frame} of ‘{series}’, which was {late} late itself and ended as this wait did."};
inline constexpr Template kWaitedForLane{"{lane} waited for {other} during {time} of this frame."};
inline constexpr Template kLikelyWaited{
    "{lane} likely waited for {other} during {time} of this frame: its work ended as the wait did."};
inline constexpr Template kJustBefore{"{what} came just before {some} of the {spikes} of {letter}."};
inline constexpr Template kJustBeforeOnly{
    "{what} came just before {some} of the {spikes} of {letter}, and never otherwise."};
inline constexpr Template kAllHad{"In {some} of {frames} of {letter} ‘{marker}’ had {argument}."};
inline constexpr Template kAllHadAround{"In {some} of {frames} of {letter} ‘{marker}’, around it, had {argument}."};
inline constexpr Template kAllHadInside{"In {some} of {frames} of {letter} ‘{marker}’, inside it, had {argument}."};
inline constexpr Template kBoundBy{"Bound by {what}: {longest} of {duration}."};
inline constexpr Template kWithoutWait{"Without any wait it could have taken {work}."};
inline constexpr Template kWithoutWaitStill{"Without any wait it would still have taken {work}."};
inline constexpr Template kBesideIt{"{time} of other work ran beside it."};
inline constexpr Template kChanges{
    "What is usual changes slowly in this recording; this is compared with frames near it."};
inline constexpr Template kOnlyFrame{"This is the only frame, so there is nothing to compare it with."};
inline constexpr Template kNoneMet{
    "No frame met its deadline, so this is compared with the quickest quarter of all frames."};
inline constexpr Template kFewFrames{"Compared with only {frames} in budget: take it with care."};
inline constexpr Template kConfidence{"Confidence: {level}. {why}."};
inline constexpr Template kFitsTogether{"All that this rests on was recorded, and fits together"};

// ---- what causes and parts are called, what there is to doubt -------------------------------------------------------

inline constexpr Template kDoubtSamples{"no marker is there, the function is known by samples of the call stack"};
inline constexpr Template kDoubtNoMarker{"no marker says what was done there"};
inline constexpr Template kDoubtNothingLonger{"nothing that was recorded took longer than usual"};
inline constexpr Template kDoubtStacks{
    "only {stacks} taken there instead of {due}: it was in the system's own code, or the machine stood still"};
inline constexpr Template kDoubtHolder{"who had the core was not recorded"};
inline constexpr Template kDoubtLost{"events of {lane} are missing in this frame"};
inline constexpr Template kDoubtEnded{"who ended that wait was not recorded"};
inline constexpr Template kDoubtCore{"whether {lane} always had a core was not recorded"};
inline constexpr Template kDoubtLikely{"who ended the wait was not recorded, work of {lane} ended at that instant"};
inline constexpr Template kDoubtEnd{"the end of ‘{marker}’ was not recorded"};
inline constexpr Template kDoubtCoverage{"what is named explains only {part} % of what it took longer"};
inline constexpr Template kDoubtOnlyFrame{"it is the only frame, so there is nothing to compare it with"};
inline constexpr Template kDoubtNoneMet{
    "no frame met its deadline, so it is compared with the quickest quarter of all frames"};
inline constexpr Template kDoubtFew{"it is compared with only {frames} in budget"};
inline constexpr Template kAmongOwn{"CPU contention among own threads"};
inline constexpr Template kStoodStill{"The machine stood still"};
inline constexpr Template kByPrograms{"CPU contention by other programs"};
inline constexpr Template kNothingExplains{"Nothing recorded explains it ({lane})"};
inline constexpr Template kOutside{"{lane}, outside any marker"};
inline constexpr Template kFunctionIn{"{function} in {place}"};
inline constexpr Template kStartingUp{"Starting up: {cause}"};
inline constexpr Template kLockHeldOn{"waits: lock held on {lane}"};
inline constexpr Template kMoreCallsPhrase{"more calls: {calls}, usually {usual}"};
inline constexpr Template kNeverUsual{"never in a usual frame"};
inline constexpr Template kEachSlower{"each call slower: ×{factor}"};
inline constexpr Template kSlowerThanUsual{"slower than usual"};
inline constexpr Template kHeldUp{"held up {lane}"};
inline constexpr Template kRanWaited{"{holders} ran, {lane} waited"};
inline constexpr Template kInStacks{"no marker; in {samples} of {stacks} call stacks"};
inline constexpr Template kBetweenInner{"longer, between its inner markers"};
inline constexpr Template kMarkerWouldTell{"longer; a marker there would tell more"};
inline constexpr Template kRecordMore{"record more here to learn why"};
inline constexpr Template kArgumentOf{"{key} of ‘{marker}’ = {value}"};
inline constexpr Template kArgument{"{key} = {value}"};
inline constexpr Template kSmallerCauses{"{causes}: {late} late in all"};
inline constexpr Template kPartIdle{"nothing recorded on {lane}"};
inline constexpr Template kPartContention{"{lane}, CPU contention with {holder}"};
inline constexpr Template kPartWaking{"{path}, waking up"};
inline constexpr Template kPartQueued{"{path}, in the queue"};
inline constexpr Template kPartBlocked{"{path}, blocked"};

// ---- one marker, one instant of a thread ----------------------------------------------------------------------------

inline constexpr Template kMarkerTimes{"{time} on {lane}, self {self}"};
inline constexpr Template kMarkerBegins{"begins at {begin}"};
inline constexpr Template kMarkerIdle{"changed nothing: it need not have run"};
inline constexpr Template kMarkerLonger{"longer than the {expected} expected"};
inline constexpr Template kMarkerNoEnd{"never ended; drawn to where it must have been over"};
inline constexpr Template kMarkerWaits{"waits ({kind})"};
inline constexpr Template kMarkerWaitsFor{"waits ({kind}) for ‘{object}’"};
inline constexpr Template kMarkerHeldBy{"held by {holder} in ‘{path}’ for {time}"};
inline constexpr Template kMarkerOfFrame{"{part} % of frame {frame}"};
// Where one can go from a marker.
inline constexpr Template kToEndedBy{"the wait was ended by ‘{path}’ on {lane}"};
inline constexpr Template kToLikelyEndedBy{"the wait likely ended with ‘{path}’ on {lane}"};
inline constexpr Template kToWokenBy{"was made ready by ‘{path}’ on {lane}"};
inline constexpr Template kToWaitsEnded{"ended the wait ‘{path}’ on {lane}"};
inline constexpr Template kToAskedForBy{"was asked for by ‘{path}’ on {lane}, {time} earlier"};
inline constexpr Template kToAskedFor{"asked for ‘{path}’ on {lane}, {time} later"};
inline constexpr Template kToHeldByMarker{"{object} was held by ‘{path}’ on {lane} for {time}"};
inline constexpr Template kToHeldUp{"held {object}, for which ‘{path}’ on {lane} waited {time}"};
inline constexpr Template kToOperationBegun{"began the operation {object}, which ended in ‘{path}’ on {lane}"};
inline constexpr Template kToOperationEnded{"ended the operation {object}, begun by ‘{path}’ on {lane}"};
inline constexpr Template kMarkerLinked{"linked from ‘{path}’ on {lane}, {time} earlier"};
inline constexpr Template kRan{"ran {time}"};
inline constexpr Template kDidNotRun{"did not run"};
inline constexpr Template kReadyFor{"ready without a core {time}"};
inline constexpr Template kBlockedFor{"blocked {time}"};
inline constexpr Template kRunningOn{"running on {core}, for {time}"};
inline constexpr Template kBlockedNow{"blocked, for {time}"};
inline constexpr Template kReadyNow{"ready but waiting for a core, for {time}"};
inline constexpr Template kReadyNowHad{"ready but waiting for a core, for {time}; {program} had {core}"};

// ---- advice ---------------------------------------------------------------------------------------------------------

inline constexpr Template kBeforeTitle{"{what} comes just before {letter}"};
inline constexpr Template kBeforeEvidence{
    "Before {some} of the {all} spikes of {cause}, and {elsewhere} times elsewhere."};
inline constexpr Template kBeforeNext{"Look at what it sets off, or do that work earlier or in parts."};
inline constexpr Template kCounterTitle{"‘{counter}’ is high just when frames are late"};
inline constexpr Template kCounterEvidence{"Above {limit} in {late} of the late frames and in {others} of the others."};
inline constexpr Template kCounterEvidenceThreshold{
    "Above {limit} (its threshold) in {late} of the late frames and in {others} of the others."};
inline constexpr Template kCounterNext{
    "Look at what makes it rise, and whether the work that depends on it can be limited."};
inline constexpr Template kQueueTitle{"Threads queue up for ‘{lock}’"};
inline constexpr Template kQueueEvidence{
    "{waits} on {lanes}, {time} in all, the longest {longest}; {together} began while another was still waiting."};
inline constexpr Template kQueueNext{"Hold it for less work, split what it guards, or hand the work to one thread."};
inline constexpr Template kEachOtherTitle{"{one} and {other} wait for each other"};
inline constexpr Template kEachOtherEvidence{"{one} waited {there} for {other}, and {other} {back} for {one}."};
inline constexpr Template kEachOtherNext{"Submit their work so that one can be a frame ahead of the other."};
inline constexpr Template kThreadsTitle{"More threads want to run than there are cores"};
inline constexpr Template kThreadsEvidence{
    "{threads} of this program on {cores}: ready for {ready} while others of its threads had the cores, and running "
    "for {ran}."};
inline constexpr Template kThreadsNext{"Use fewer workers, or give what frames wait for a higher priority."};
inline constexpr Template kStoppedTitle{"The machine itself stood still"};
inline constexpr Template kStoppedEvidence{
    "Threads of this program had a core for {time} in which the machine did not run; {frames} that as main cause. "
    "Virtual machines stand still while their host runs others."};
inline constexpr Template kStoppedNext{"Measure on a machine of its own. Until then leave these frames out."};
inline constexpr Template kProgramsTitle{"Other programs had the cores"};
inline constexpr Template kProgramsEvidence{
    "While threads of this program were ready to run, others ran: {programs}, for {time} in all. {own} of {late} had "
    "causes of this program's own."};
inline constexpr Template kProgramsEvidenceNone{
    "While threads of this program were ready to run, others ran: {programs}, for {time} in all. No frame was late."};
inline constexpr Template kProgramsNext{
    "Measure again while these do not run. Until then compare causes with other recordings, not numbers of late "
    "frames."};
inline constexpr Template kTimerTitle{"The loop sleeps until its next tick and does not say so"};
inline constexpr Template kTimerEvidence{
    "{part} of the frames last {tick}; the time left is spent in {sleep}. Frames up to {longest} count as in budget."};
inline constexpr Template kTimerNext{
    "Tell that wait as one for pacing (FUG_WAIT_PACING): what-if then knows the ticks."};
inline constexpr Template kIdleTitle{"{path} did work that changed nothing"};
inline constexpr Template kIdleNext{"Ask first whether anything has changed, or do it less often."};
inline constexpr Template kAgainTitle{"{path} does the same again within a frame"};
inline constexpr Template kAgainNext{"It has the same arguments as before: keep the result for the rest of the frame."};
inline constexpr Template kPerFrameEvidence{
    "{times} times a frame, {part} of the frames' time (in {frames} looked at)."};
inline constexpr Template kAllocationsTitle{"{path} takes memory in a loop"};
inline constexpr Template kOutsideMarkers{"Code outside any marker"};
inline constexpr Template kAllocationsEvidence{
    "More than {limit} times in {frames}, at most {most} times in frame {worst}."};
inline constexpr Template kAllocationsNext{"Take it once and keep it, or reserve room before the loop."};
inline constexpr Template kMessagesTitle{"{lane} writes many messages within a frame"};
inline constexpr Template kMessagesEvidence{
    "{limit} or more in {frames}, {late} of them late; at most {most} in frame {worst}."};
inline constexpr Template kMessagesNext{"Gather them, or write them from another thread."};
inline constexpr Template kSlowFileTitle{"{path} waits long for a file on a frame's own lane"};
inline constexpr Template kSlowFileEvidence{"{requests} over {limit}, {time} in all, the longest {longest}."};
inline constexpr Template kSlowFileNext{
    "Ask for the file earlier, on another thread, and go on without it until it is there."};
inline constexpr Template kFirstUseTitle{"{path} loads when first needed"};
inline constexpr Template kFirstUseEvidence{"{times} inside work that usual frames do not have, {time} in all."};
inline constexpr Template kFirstUseNext{"Load it before it is needed: while a menu is open, or a stage begins."};
inline constexpr Template kTooLongTitle{"‘{marker}’ takes longer than its author expected"};
inline constexpr Template kTooLongEvidence{"{calls} over {expected}, the longest {longest}."};
inline constexpr Template kTooLongEvidenceAtLeast{"At least {calls} over {expected}, the longest {longest}."};
inline constexpr Template kTooLongNext{"Look at its longest occurrences, or correct what is expected."};
inline constexpr Template kUnmarkedTitle{"Much time without a marker on {lane}"};
inline constexpr Template kUnmarkedInside{
    "{part} of the frames' time lies inside {path}, between its markers, in pieces of more than a millisecond."};
inline constexpr Template kUnmarkedOutside{
    "{part} of the frames' time lies outside any marker in pieces of more than a millisecond."};
inline constexpr Template kUnmarkedNext{"Put a marker around the work there."};
inline constexpr Template kAddMarkerTitle{"Add a marker around {function}"};
inline constexpr Template kAddMarkerEvidence{
    "No marker tells what takes this time{where}, but {samples} of {stacks} of its {frames} are in {function}{from}; "
    "{time} in frame {worst}."};
inline constexpr Template kAddMarkerBlocked{
    "No marker tells what takes this time{where}, but call stacks tell that the thread is blocked in {function}{from}; "
    "{time} in frame {worst}."};
inline constexpr Template kAddMarkerNext{
    "With a marker there, and its arguments, causes tell it by themselves and exactly."};
inline constexpr Template kInPath{" in {path}"};
inline constexpr Template kOnLaneOutside{" on {lane}, outside any marker"};
inline constexpr Template kCalledFrom{", called from {caller}"};
inline constexpr Template kStacksMostlyIn{"{part} of their {stacks} in {function}, called from {caller}."};
inline constexpr Template kMarkerAround{"Put a marker around {function}."};
inline constexpr Template kMeasuringTitle{"Measuring itself takes {part} of the frames"};
inline constexpr Template kMeasuringNext{"Switch fine categories off while recording."};
inline constexpr Template kFewMetTitle{"Few frames met their deadline"};
inline constexpr Template kNoneMetTitle{"No frame met its deadline"};
inline constexpr Template kFewMetEvidence{"{frames} all there is to compare with."};
inline constexpr Template kFewMetNext{"Record for longer, or set a wider budget, so that usual frames are known."};

}  // namespace say
}  // namespace fugato
