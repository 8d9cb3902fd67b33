# The harbour's accounts: what is charged and paid, in hundredths of a crown.

namespace eval accounts {
    variable due
    array set due {}

    proc open_all {} {
        variable due
        array unset due
    }

    proc charge {who crowns} {
        variable due
        if {$crowns <= 0} {
            error "a charge of $crowns crowns is none"
        }
        incr due($who) [expr {round($crowns * 100)}]
    }

    proc pay {who crowns} {
        variable due
        incr due($who) [expr {-round($crowns * 100)}]
    }

    proc owed {who} {
        variable due
        if {![info exists due($who)]} {
            return 0.00
        }
        return [format %.2f [expr {$due($who) / 100.0}]]
    }
}
