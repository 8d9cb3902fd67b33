# The ledger's own launcher, older than anyone here: reads books and checks their entries.
#
#     tclsh clerk.tcl ?-only ACCOUNT/ENTRY ...? ?-marked MARK? -report FILE BOOK ...
#
# Exits with 0 if all entries are right, 4 if some are wrong. Writes xUnit-style XML.

source [file join [file dirname [info script]] accounts.tcl]

set only {}
set marked ""
set report ""
set books {}
while {[llength $argv]} {
    set argv [lassign $argv word]
    switch -- $word {
        -only { set argv [lassign $argv name]; lappend only $name }
        -marked { set argv [lassign $argv marked] }
        -report { set argv [lassign $argv report] }
        default { lappend books $word }
    }
}

proc escaped {text} {
    string map {& &amp; < &lt; > &gt; \" &quot; ' &apos; \n &#10;} $text
}

# What books are written with.

proc mark {args} {
    lappend ::marks [join $args =]
}

proc account {name body} {
    set ::around $name
    set ::around_marks $::marks
    set ::marks {}
    uplevel #0 $body
}

proc is_wanted {name marks} {
    if {$::marked ne "" && $::marked ni $marks} {
        return 0
    }
    expr {![llength $::only] || "$::around/$name" in $::only}
}

proc entry {name body} {
    set wanted [is_wanted $name [concat $::around_marks $::marks]]
    set ::marks {}
    if {!$wanted} {
        return
    }
    accounts::open_all
    set ::said ""
    set began [clock milliseconds]
    set failed [catch {uplevel #0 $body} message options]
    set seconds [format %.3f [expr {([clock milliseconds] - $began) / 1000.0}]]
    set wrong [expr {$failed == 1 && [dict get $options -errorcode] eq "WRONG"}]
    set place [escaped $::book]
    lappend ::told "<testcase classname=\"[escaped $::around]\" name=\"[escaped $name]\""
    lappend ::told " file=\"$place\" time=\"$seconds\">"
    if {$failed == 3} {
        lappend ::told "<skipped message=\"[escaped $message]\"/>"
    } elseif {$failed} {
        incr ::bad
        lappend ::told "<[expr {$wrong ? "failure" : "error"}] message=\"[escaped $message]\"/>"
    }
    if {$::said ne ""} {
        lappend ::told "<system-out>[escaped $::said]</system-out>"
    }
    lappend ::told "</testcase>\n"
}

proc charge {who crowns} {
    append ::said "$who is charged $crowns\n"
    accounts::charge $who $crowns
}

proc pay {who crowns} {
    append ::said "$who pays $crowns\n"
    accounts::pay $who $crowns
}

proc owes {who crowns} {
    set owed [accounts::owed $who]
    if {$owed != $crowns} {
        return -code error -errorcode WRONG "$who owes $owed crowns, not $crowns"
    }
}

proc refused {words command} {
    if {![catch {uplevel #0 $command} message]} {
        return -code error -errorcode WRONG "it was not refused"
    }
    if {![string match "*$words*" $message]} {
        return -code error -errorcode WRONG "it was refused, but with: $message"
    }
}

proc not_yet {why} {
    return -code 3 $why
}

set told {}
set bad 0
foreach book $books {
    set marks {}
    source -encoding utf-8 $book
}
set file [open $report w]
fconfigure $file -encoding utf-8
puts $file "<testsuites><testsuite name=\"ledger\">\n[join $told ""]</testsuite></testsuites>"
close $file
exit [expr {$bad ? 4 : 0}]
