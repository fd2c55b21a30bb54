using Vestige.Connectors.PostgreSql.Watching;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>The log tells 32 bits of a transaction's number, which wrap around.</summary>
public sealed class RunningTransactionsTests
{
    private const long Round = 1L << 32;

    [Theory]
    [InlineData(1000, 999, true)]
    [InlineData(1000, 990, false)]
    [InlineData(1000, 1000, false)]
    [InlineData(1000, 1001, false)]
    [InlineData(Round + 1000, 999, true)]
    [InlineData(Round + 1000, 1000, false)]
    [InlineData(Round + 5, 4294967290, true)]
    [InlineData(Round - 5, 3, false)]
    [InlineData((3 * Round) + 5, 4294967295, true)]
    public void A_transaction_has_ended_when_it_is_before_the_next_and_not_among_the_running(long next, uint transaction, bool hasEnded) =>
        Assert.Equal(hasEnded, new RunningTransactions(next, [990, 991]).HasEnded(transaction));
}
