namespace Vestige.Connectors.PostgreSql.Wire;

/// <summary>One message of the server; its body is valid until the next is taken.</summary>
internal readonly record struct WireMessage(char Kind, ReadOnlyMemory<byte> Body);
