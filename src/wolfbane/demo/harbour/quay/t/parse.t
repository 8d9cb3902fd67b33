#!/usr/bin/perl
# tags: smoke
use strict;
use warnings;
use Test::More;
use QuayLog;

my $entry = QuayLog::parse_line('2031-05-04 06:10 in  A2 Grey Heron');
is $entry->{berth}, 'A2',         'berth';
is $entry->{boat},  'Grey Heron', 'boat with a space in its name';
is QuayLog::parse_line('# tide gauge restarted'), undef, 'comments are passed over';

subtest 'berths taken' => sub {
    my $taken = QuayLog::taken(
        '2031-05-04 06:10 in  A2 Grey Heron',
        '2031-05-04 07:30 in  B1 Marsh Wren',
        '2031-05-04 19:05 out A2 Grey Heron',
    );
    is_deeply [ sort keys %$taken ], ['B1'], 'one is left';
    is $taken->{B1}, 'Marsh Wren', 'and it is the wren';
};

TODO: {
    local $TODO = 'the night shift writes in pencil';
    isnt QuayLog::parse_line('04/05 6.10 in A2 Grey Heron'), undef, 'old dates';
}

done_testing;
