#!/usr/bin/perl
# A complete worker in Perl, as an example of docs/worker-protocol.md.
#
# It runs files of checks, one a line: "name: expression; expression". A check passes when
# every expression is true; each expression is a part of it. Lines with # are comments.
use strict;
use warnings;
use IO::Socket::INET;
use JSON::PP;
use Time::HiRes qw(time);

my $json = JSON::PP->new->utf8->canonical;
my $channel = IO::Socket::INET->new( PeerAddr => delete $ENV{WOLFBANE_CHANNEL} ) or die "no channel: $@";
$channel->autoflush(1);

sub say_that { my ( $type, %what ) = @_; print {$channel} $json->encode( { %what, type => $type } ), "\n" }

say_that( 'hello', token => delete $ENV{WOLFBANE_TOKEN}, protocol => 1, runtime => "Perl $^V" );
my $root;
while ( my $line = <$channel> ) {
    my $asked = $json->decode($line);
    if    ( $asked->{type} eq 'options' ) { $root = $asked->{root} }
    elsif ( $asked->{type} eq 'collect' ) { collect($_) for @{ $asked->{files} } }
    elsif ( $asked->{type} eq 'run' )     { run( $asked->{file}, @{ $asked->{names} } ) }
}

sub checks {
    my ($file) = @_;
    open my $source, '<:encoding(UTF-8)', "$root/$file" or die "$file: $!\n";
    my @found;
    while (<$source>) {
        push @found, { name => $1, line => $., parts => [ split /\s*;\s*/, $2 ] } if /^([^#:]+):\s*(.+)$/;
    }
    return @found;
}

sub collect {
    my ($file) = @_;
    say_that( 'collecting', file => $file );
    my @found = eval { checks($file) };
    my %problem = $@ ? ( outcome => 'errored', message => "$@" ) : ();
    say_that( 'test', address => "$file#$_->{name}", line => $_->{line} ) for @found;
    say_that( 'collected', file => $file, divisible => JSON::PP::true, %problem );
}

sub run {
    my ( $file, @names ) = @_;
    my %check = map { $_->{name} => $_ } checks($file);
    for my $name (@names) {
        my $address = "$file#$name";
        say_that( 'started', address => $address );
        my ( $began, $printed, @parts, @wrong ) = ( time, '' );
        {
            local *STDOUT;
            open STDOUT, '>', \$printed;
            for my $part ( @{ $check{$name}{parts} } ) {
                my $held = eval $part;
                my $outcome = $@ ? 'errored' : $held ? 'passed' : 'failed';
                push @parts, { name => $part, outcome => $outcome };
                push @wrong, [ $outcome, $@ ? "$@" : "$part is not true" ] if $outcome ne 'passed';
            }
        }
        say_that( 'output', address => $address, stream => 'both', text => $printed ) if length $printed;
        my ( $outcome, $message ) = @wrong ? @{ $wrong[0] } : ( 'passed', '' );
        say_that(
            'finished', address => $address, outcome => $outcome, message => $message,
            seconds => time - $began, parts => \@parts,
        );
    }
    say_that( 'ran', file => $file );
}
