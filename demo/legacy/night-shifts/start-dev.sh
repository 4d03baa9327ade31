#!/bin/sh
# Where the shifts lie
export SHIFTS_HOME='$HOME/shifts'
export SHIFTS_NAMES="early late"
export SHIFTS_LOG=$HOME/shifts.log
