namespace Vestige.Web.Api.Documents;

/// <summary>How far the target is behind: in seconds, bytes of log and transactions.</summary>
public sealed record LagDocument(double Seconds, long? Bytes, long? Transactions, bool Current, bool AtLeast);
