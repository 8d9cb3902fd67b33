# The outcome of each test program by Perl's own reader of TAP: one JSON row [file, points, outcome].
#
#     perl -Ilib perl.pl FILE...
use strict;
use warnings;
use JSON::PP;
use TAP::Parser;

my $json = JSON::PP->new->canonical;
for my $file (@ARGV) {
    my $parser = TAP::Parser->new({ source => $file, switches => [ map { "-I$_" } @INC ], merge => 0 });
    $parser->run;
    my $outcome = $parser->has_problems ? 'failed' : $parser->skip_all ? 'skipped' : 'passed';
    print $json->encode([ $file, 0 + $parser->tests_run, $outcome ]), "\n";
}
