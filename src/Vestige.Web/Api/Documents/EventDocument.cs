using Vestige.Engine.Events;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>Something that happened to a crossing.</summary>
public sealed record EventDocument([property: Time] string At, [property: Choices(typeof(EventKind))] string Kind, string Text, string By);
