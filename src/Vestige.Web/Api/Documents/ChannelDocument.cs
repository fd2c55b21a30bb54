namespace Vestige.Web.Api.Documents;

/// <summary>The channel on which a test was sent.</summary>
public sealed record ChannelDocument(string Name);
