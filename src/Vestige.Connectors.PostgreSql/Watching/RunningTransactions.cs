namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>Which transactions had not ended at one moment (PostgreSQL manual, System Information Functions, txid_snapshot).</summary>
/// <param name="Next">The first number that had not been given to a transaction which has ended; all from it on had not ended.</param>
/// <param name="Numbers">Those before it that had not ended.</param>
internal sealed record RunningTransactions(long Next, IReadOnlyCollection<long> Numbers)
{
    private const long Numbering = 1L << 32;

    /// <summary>Whether what a transaction did shows to others.</summary>
    /// <param name="transaction">
    /// The lower 32 bits of its number, as the log tells it; less than 2^31 numbers away from <see cref="Next"/>.
    /// </param>
    public bool HasEnded(uint transaction)
    {
        var number = (Next & ~(Numbering - 1)) | transaction;
        number +=
            number - Next > int.MaxValue ? -Numbering
            : Next - number > int.MaxValue ? Numbering
            : 0;
        return number < Next && !Numbers.Contains(number);
    }
}
