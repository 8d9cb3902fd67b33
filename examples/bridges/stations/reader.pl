# A launcher of the harbour's own: compares readings with what is expected of them.
use strict;
use warnings;
use utf8;
binmode STDOUT, ':utf8';

my ($pattern, $into, $file) = ('', '.', '');
for (map { utf8::decode(my $word = $_); $word } @ARGV) {
    if (/^--matching=(.*)$/s) { $pattern = $1 }
    elsif (/^--into=(.*)$/s)  { $into = $1 }
    else                      { $file = $_ }
}

sub quoted {
    my ($text) = @_;
    my %as = ('&' => '&amp;', '<' => '&lt;', '>' => '&gt;', '"' => '&quot;');
    $text =~ s/([&<>"])/$as{$1}/g;
    return $text;
}

my (@stations, $station, $bad);
open my $lines, '<:utf8', $file or die "$file: $!\n";
while (<$lines>) {
    if (/^\s*station "([^"]+)"/) { $station = { name => $1, cases => [] }; push @stations, $station }
    next unless /^\s*reading "([^"]+)".* expects (\S+) gives (\S+)/;
    my ($name, $wanted, $came) = ($1, $2, $3);
    next if $pattern ne '' && "$station->{name}/$name" !~ /$pattern/;
    my $failed = $wanted ne $came;
    $bad ||= $failed;
    push @{ $station->{cases} }, sprintf '<testcase classname="%s" name="%s" time="0.001">%s</testcase>',
        quoted($station->{name}), quoted($name),
        $failed ? sprintf('<failure message="%s instead of %s"/>', quoted($came), quoted($wanted)) : '';
}
my $count = 0;
for (grep { @{ $_->{cases} } } @stations) {
    open my $xml, '>:utf8', "$into/" . ++$count . '.xml' or die "$into: $!\n";
    print {$xml} '<testsuite name="', quoted($_->{name}), '">', @{ $_->{cases} }, "</testsuite>\n";
}
exit($bad ? 3 : 0);
