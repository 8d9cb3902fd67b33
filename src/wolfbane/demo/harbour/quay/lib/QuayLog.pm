package QuayLog;
use strict;
use warnings;

# One line of the quay's log: "2031-05-04 06:10 in  A2 Grey Heron".
sub parse_line {
    my ($line) = @_;
    return unless $line =~ /^(\d{4}-\d\d-\d\d) (\d\d:\d\d) (in|out)\s+([AB]\d) (.+)$/;
    return { day => $1, time => $2, way => $3, berth => $4, boat => $5 };
}

# Berths taken at the end of a log.
sub taken {
    my %at;
    for my $entry (grep { defined } map { parse_line($_) } @_) {
        if ($entry->{way} eq 'in') { $at{ $entry->{berth} } = $entry->{boat} }
        else                       { delete $at{ $entry->{berth} } }
    }
    return \%at;
}

1;
