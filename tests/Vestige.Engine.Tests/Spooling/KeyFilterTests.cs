using CsCheck;
using Vestige.Engine.Spooling;
using Xunit;

namespace Vestige.Engine.Tests.Spooling;

/// <summary>Filters never exclude a key that is there, and seldom fail to exclude one that is not.</summary>
public sealed class KeyFilterTests
{
    [Fact]
    public void A_key_that_was_added_is_never_excluded() =>
        Gen
            .ULong.Array[0, 500]
            .Sample(hashes =>
            {
                var filter = KeyFilter.Of(hashes);
                return hashes.All(hash => KeyFilter.MayHold(filter, hash));
            });

    /// <summary>The expected share of wrong answers is (1 − e^(−kn/m))^k: 0.3 % for 12 bits a key and 8 probes (Bloom 1970).</summary>
    [Fact]
    public void Others_are_excluded_about_as_often_as_reckoned()
    {
        var random = new Random(7);
        var filter = KeyFilter.Of([
            .. Enumerable.Range(0, 20_000).Select(_ => unchecked((ulong)random.NextInt64(long.MinValue, long.MaxValue))),
        ]);
        var wrong = Enumerable
            .Range(0, 100_000)
            .Count(_ => KeyFilter.MayHold(filter, unchecked((ulong)random.NextInt64(long.MinValue, long.MaxValue))));
        Assert.InRange(wrong / 100_000.0, 0.001, 0.008);
    }
}
