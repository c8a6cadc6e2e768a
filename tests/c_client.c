/* SPDX-License-Identifier: GPL-3.0-or-later */
/* A client in plain C11: the header must compile, and everything it offers must link. */
#include <fugato/fugato.h>

static int leaveEarly(int early) {
    FUG_SCOPE("Scope in C", "test", "ends by whatever way it is left");
    if (early) return 1;
    {
        FUG_SCOPE("Inner scope in C", "test", "");
        FUG_SCOPE("Innermost scope in C", "test", "");
    }
    return 0;
}

int recordFromC(const char* path) {
    static fug_site outer = FUG_SITE("Outer in C", "test", "from a C program");
    static fug_site waiting = FUG_SITE("Wait in C", "test", "");
    fug_options options = {0};
    options.program = "c-client";
    if (fug_start(path, &options) != 0) return 1;
    fug_name_thread("c thread", "client", FUG_LANE_QUEUE);
    const double threshold = 2.0;
    const uint32_t series = fug_series("loop", 1000000), object = fug_object("door");
    const uint32_t counter = fug_counter("things", "pieces", &threshold), state = fug_state("stage");
    const uint64_t link = fug_link_new();
    fug_frame_begin(series, 0);
    const int began = fug_begin(&outer);
    fug_taken(object);
    fug_given(object);
    fug_link_out(link);
    fug_link_in(link);
    fug_wait_end(fug_wait_begin(&waiting, object, FUG_WAIT_CONDITION), link);
    fug_count(counter, 1.5);
    fug_point(FUG_ERROR, "from C");
    fug_state_set(state, "Only");
    fug_end(began);
    (void)(leaveEarly(1) + leaveEarly(0));
    fug_frame_end(series);
    fug_stop();
    return fug_lost() == 0 ? 0 : 2;
}
