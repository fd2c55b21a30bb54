namespace Vestige.Connectors.PostgreSql.Wire;

/// <summary>One message of the server; its body is valid until the next is taken.</summary>
/// <param name="Kind">Its first letter.</param>
/// <param name="Body">What follows its length; only the beginning of it where <paramref name="Omitted"/> is not 0.</param>
/// <param name="Omitted">How many bytes of the body were skipped, where the message is larger than the reader asked for.</param>
internal readonly record struct WireMessage(char Kind, ReadOnlyMemory<byte> Body, int Omitted = 0);
