using System.Buffers;
using System.Numerics;
using System.Text;
using CsCheck;
using Vestige.Core.Changes;
using Vestige.Core.Reconciling;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>The arithmetic of comparing: forms, digests, segments and samples.</summary>
public class ReconcilingTests
{
    /// <summary>The examples of the PostgreSQL manual, Composite Types, and of its rules for quotes.</summary>
    [Theory]
    [InlineData("(\"fuzzy dice\",42,1.99)", "fuzzy dice", "42", "1.99")]
    [InlineData("(\"\",42,)", "", "42", null)]
    [InlineData("(\"a\"\"b\\\\c\")", "a\"b\\c")]
    [InlineData("(\"(x)\",\"1,2\",\" \")", "(x)", "1,2", " ")]
    [InlineData("(,)", null, null)]
    public void A_row_is_written_as_the_server_writes_it(string expected, params string?[] values) =>
        Assert.Equal(expected, Written(TextForm.Instance, Row(values)));

    [Fact]
    public void Rows_that_differ_in_how_values_are_parted_are_not_the_same()
    {
        Gen.Select(Values, Values)
            .Sample(
                (one, other) =>
                    Assert.Equal(
                        one.SequenceEqual(other),
                        Written(TextForm.Instance, Row([.. one])) == Written(TextForm.Instance, Row([.. other]))
                    ),
                iter: 20_000
            );
        Gen.Select(Values, Values)
            .Sample(
                (one, other) =>
                    Assert.Equal(
                        one.SequenceEqual(other),
                        Written(KindForm.Instance, Row([.. one])) == Written(KindForm.Instance, Row([.. other]))
                    ),
                iter: 20_000
            );
        Assert.NotEqual(
            Written(KindForm.Instance, Of(writer => writer.Integer(1))),
            Written(KindForm.Instance, Of(writer => writer.Real(1)))
        );
    }

    /// <summary>RFC 1321, A.5: the test suite.</summary>
    [Theory]
    [InlineData("", "d41d8cd98f00b204e9800998ecf8427e")]
    [InlineData("abc", "900150983cd24fb0d6963f7d28e17f72")]
    [InlineData("message digest", "f96b697d7cb7938d525a2f31aaf161d0")]
    public void Hashes_are_those_of_the_standard(string text, string hash) =>
        Assert.Equal(hash, RowHash.Standard(Encoding.ASCII.GetBytes(text)).ToString("x32"));

    [Fact]
    public void A_digest_does_not_depend_on_the_order_and_rows_can_be_taken_out_again() =>
        Gen
            .ULong.Array[0, 40]
            .Select(Gen.Int)
            .Sample(
                (halves, seed) =>
                {
                    var hashes = halves.Select((half, i) => new UInt128(half, halves[(i * 7) % halves.Length])).ToList();
                    var all = hashes.Aggregate(Digest.Empty, (digest, hash) => digest.With(hash));
                    var shuffled = hashes
                        .OrderBy(hash => HashCode.Combine(seed, hash))
                        .Aggregate(Digest.Empty, (digest, hash) => digest.With(hash));
                    Assert.Equal(all, shuffled);

                    // As a database adds: each half a signed number of 64 bits, the sums without bound.
                    var upper = hashes.Aggregate(BigInteger.Zero, (sum, hash) => sum + (long)(ulong)(hash >> 64));
                    var lower = hashes.Aggregate(BigInteger.Zero, (sum, hash) => sum + (long)(ulong)hash);
                    Assert.Equal(all, Digest.Of(hashes.Count, upper, lower));
                    Assert.Equal(Digest.Empty, hashes.Aggregate(all, (digest, hash) => digest.Without(hash)));
                }
            );

    [Fact]
    public void The_segment_of_a_key_is_the_one_whose_range_holds_it() =>
        Gen.Select(Gen.Long[-50, 50].Array[0, 20], Gen.Long[-60, 60])
            .Sample(
                (bounds, key) =>
                {
                    var cut = Segments.ByRange([.. bounds.Distinct().Order().Select(bound => Of(writer => writer.Integer(bound)))]);
                    var row = Of(writer => writer.Text($"{key}"));
                    var segment = cut.Of(row, 0);
                    Assert.All(Enumerable.Range(0, cut.Count), i => Assert.Equal(i == segment, cut.SpanOf(i, KeySpan.All).Contains(row)));
                }
            );

    [Fact]
    public void Spans_hold_the_keys_of_the_wanted_segments_and_neighbours_are_one() =>
        Gen.Select(Gen.Long[-50, 50].Array[0, 20], Gen.Int[0, 20].Array[0, 12])
            .Sample(
                (bounds, chosen) =>
                {
                    var cut = Segments.ByRange([.. bounds.Distinct().Order().Select(bound => Of(writer => writer.Integer(bound)))]);
                    List<int> wanted = [.. chosen.Where(segment => segment < cut.Count).Distinct().Order()];
                    var spans = cut.SpansOf(wanted, KeySpan.All).ToList();
                    for (var key = -60; key <= 60; key++)
                    {
                        var row = Of(writer => writer.Integer(key));
                        Assert.Equal(wanted.Contains(cut.Of(row, 0)) ? 1 : 0, spans.Count(span => span.Contains(row)));
                    }

                    Assert.Equal(wanted.Count(segment => !wanted.Contains(segment - 1)), spans.Count);
                }
            );

    [Fact]
    public void Segments_by_hash_take_its_first_bits()
    {
        Assert.Equal(
            5,
            Segments.ByHash(3).Of(default, UInt128.Parse("bfffffffffffffffffffffffffffffff", System.Globalization.NumberStyles.HexNumber))
        );
        Assert.Equal(0, Segments.ByHash(16).Of(default, UInt128.One));
    }

    /// <summary>
    /// 50 marbles of which 5 are green, 10 drawn: the chance of none, a textbook example of the hypergeometric distribution (0.3106 to four
    /// places; from memory), and exact fractions.
    /// </summary>
    [Fact]
    public void The_chance_of_missing_all_bad_rows_is_the_hypergeometric_one()
    {
        Assert.Equal(0.3106, Sampling.ChanceOfMissing(50, 5, 10), 4);
        Gen.Select(Gen.Int[1, 60], Gen.Int[0, 60], Gen.Int[0, 60])
            .Sample(
                (rows, bad, sample) =>
                {
                    if (bad <= rows && sample <= rows)
                    {
                        var exact = (double)Choose(rows - bad, sample) / (double)Choose(rows, sample);
                        Assert.Equal(exact, Sampling.ChanceOfMissing(rows, bad, sample), 10);
                    }
                }
            );
    }

    /// <summary>
    /// The rule of three and what it stands for: J. A. Hanley, A. Lippman-Hand, If Nothing Goes Wrong, Is Everything All Right?, JAMA 249
    /// (1983), table of 95 % bounds in percent by sample size (from memory).
    /// </summary>
    [Theory]
    [InlineData(10, 26)]
    [InlineData(20, 14)]
    [InlineData(30, 10)]
    [InlineData(50, 6)]
    [InlineData(100, 3)]
    [InlineData(1000, 0.3)]
    public void A_clean_sample_bounds_the_share_of_bad_rows(int sample, double percent)
    {
        const long rows = 10_000_000;
        var share = 100.0 * Sampling.MostBad(rows, sample, 0.95) / rows;
        Assert.Equal(percent, share, percent >= 1 ? 0 : 1);
        Assert.InRange(share, 300.0 / sample * 0.85, 300.0 / sample);
    }

    [Fact]
    public void The_size_for_a_certainty_is_the_smallest_that_reaches_it() =>
        Gen.Select(Gen.Long[1, 5000], Gen.Long[1, 50], Gen.Double[0.5, 0.999])
            .Sample(
                (rows, bad, certainty) =>
                {
                    if (bad <= rows)
                    {
                        var size = Sampling.SizeFor(rows, bad, certainty);
                        Assert.True(Sampling.ChanceOfMissing(rows, bad, size) <= 1 - certainty);
                        Assert.True(size == 0 || Sampling.ChanceOfMissing(rows, bad, size - 1) > 1 - certainty);
                    }
                }
            );

    [Fact]
    public void What_differs_between_two_texts_is_marked_and_nothing_is_lost() =>
        Gen.Select(Gen.String["ab é\U0001F600"], Gen.String["ab é\U0001F600"])
            .Sample(
                (left, right) =>
                {
                    if (left.Any(char.IsSurrogate) || right.Any(char.IsSurrogate))
                    {
                        return;
                    }

                    var (one, other) = TextDifference.Of(left, right);
                    Assert.Equal(
                        (left, right),
                        (string.Concat(one.Select(piece => piece.Text)), string.Concat(other.Select(piece => piece.Text)))
                    );
                    Assert.Equal(
                        string.Concat(one.Where(piece => !piece.Differs).Select(piece => piece.Text)),
                        string.Concat(other.Where(piece => !piece.Differs).Select(piece => piece.Text))
                    );
                    Assert.Equal(left == right, one.Concat(other).All(piece => !piece.Differs));
                }
            );

    private static Gen<List<string?>> Values =>
        Gen.OneOf(Gen.Const((string?)null), Gen.String["a,()\"\\ "].Select(text => (string?)text)).List[1, 3];

    private static BigInteger Choose(int n, int k)
    {
        var product = BigInteger.One;
        for (var i = 0; i < k; i++)
        {
            product = product * (n - i) / (i + 1);
        }

        return n < k ? 0 : product;
    }

    private static string Written(IRowForm form, Row row)
    {
        var into = new ArrayBufferWriter<byte>();
        form.Write(row, [.. Enumerable.Range(0, row.Count)], into);
        return Encoding.Latin1.GetString(into.WrittenSpan);
    }

    private static Row Row(string?[] values)
    {
        var writer = new RowWriter();
        writer.Begin(values.Length);
        foreach (var value in values)
        {
            if (value is null)
            {
                writer.Null();
            }
            else
            {
                writer.Text(value);
            }
        }

        return writer.ToRow();
    }

    private static Row Of(Action<RowWriter> value)
    {
        var writer = new RowWriter();
        writer.Begin(1);
        value(writer);
        return writer.ToRow();
    }
}
