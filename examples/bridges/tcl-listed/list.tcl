# Prints a line for each test of a file, and runs none: LIST, its line, its name, its tags.
set file [file normalize [lindex $argv 0]]
set argv {}                        ;# the package would read it
set channel [open $file]
set lines [split [read $channel] \n]
close $channel

package require tcltest
proc tcltest::test {name args} {
    set line 0
    for {set level -1} {$level > -[info frame]} {incr level -1} {
        set frame [info frame $level]
        if {[dict get $frame type] eq "source"} {
            set line [dict get $frame line]
            break
        }
    }
    # The tags are in a comment above the test.
    set tags ""
    regexp {^\s*# tags: (.*)} [lindex $::lines $line-2] -> tags
    puts "LIST $line $name $tags"
}
namespace import -force ::tcltest::*
cd [file dirname $file]
set argv0 $file
source $file
